import { type ErrorCode, errors } from './api'
import type { Exchange, Handlers, Outcome } from './exchange'
import type { ReaderGroup } from './groups'

const FIRST_SESSION_MS = 10_000

function findCoordinator({ read, write, version, cluster, listener }: Exchange): Outcome {
  const [node] = cluster.nodes(listener)
  const { id, host, port } = node!
  if (version >= 1) write.int32(0)
  if (version < 4) {
    read.text()
    if (version >= 1) read.int8()
    write.int16(errors.none)
    if (version >= 1) write.text(null)
    write.int32(id).text(host).int32(port)
  } else {
    read.int8()
    const keys = read.list(() => read.name())
    write.list(keys, (key) => write.text(key).int32(id).text(host).int32(port).int16(errors.none).text(null).tags())
  }
  write.tags()
  return 'answer'
}

async function joinGroup(e: Exchange): Promise<Outcome> {
  const { read, write, version, cluster, clientId } = e
  const group = cluster.groups.of(read.name())
  const sessionMs = read.int32()
  const rebalanceMs = version >= 1 ? read.int32() : sessionMs
  let id = read.name()
  if (version >= 5) read.text()
  const type = read.name()
  const protocols = read.list(() => {
    const one = [read.name(), read.bytes() ?? Buffer.alloc(0)] as const
    read.tags()
    return one
  })
  let error: ErrorCode = errors.none
  if (id === '') {
    id = group.promise(clientId)
    // From version 4 on one comes back with the id that it was given.
    if (version >= 4) error = errors.memberIdRequired
  }
  const joined =
    error === errors.none
      ? await new Promise<Parameters<Parameters<typeof group.join>[1]>[0]>((done) =>
          group.join({ id, sessionMs: sessionMs || FIRST_SESSION_MS, rebalanceMs, protocols }, done),
        )
      : { error, generation: -1, protocol: '', leader: '', member: id, members: [] }
  if (version >= 2) write.int32(0)
  write.int16(joined.error).int32(joined.generation)
  if (version >= 7) write.text(type).text(joined.protocol)
  else write.text(joined.protocol)
  write.text(joined.leader).text(joined.member)
  write.list(joined.members, (m) => {
    write.text(m.id)
    if (version >= 5) write.text(null)
    write.bytes(m.metadata).tags()
  })
  write.tags()
  return 'answer'
}

async function syncGroup({ read, write, version, cluster }: Exchange): Promise<Outcome> {
  const group = cluster.groups.of(read.name())
  const generation = read.int32()
  const id = read.name()
  if (version >= 3) read.text()
  const type = version >= 5 ? read.text() : null
  if (version >= 5) read.text()
  const assignments = new Map(
    read.list(() => {
      const one = [read.name(), Buffer.from(read.bytes() ?? [])] as const
      read.tags()
      return one
    }),
  )
  const synced = await new Promise<{ error: ErrorCode; assignment: Buffer }>((done) => group.sync(id, generation, assignments, done))
  if (version >= 1) write.int32(0)
  write.int16(synced.error)
  if (version >= 5) write.text(type).text(group.protocol)
  write.bytes(synced.assignment).tags()
  return 'answer'
}

function heartbeat({ read, write, version, cluster }: Exchange): Outcome {
  const group = cluster.groups.of(read.name())
  const generation = read.int32()
  const error = group.heartbeat(read.name(), generation)
  if (version >= 1) write.int32(0)
  write.int16(error).tags()
  return 'answer'
}

function leaveGroup({ read, write, version, cluster }: Exchange): Outcome {
  const group = cluster.groups.of(read.name())
  const left = version < 3 ? [{ id: read.name(), instance: null }] : read.list(() => leaving(read))
  const answers = left.map((m) => ({ ...m, error: group.leave(m.id) }))
  if (version >= 1) write.int32(0)
  write.int16(version < 3 ? answers[0]!.error : errors.none)
  if (version >= 3)
    write.list(answers, (m) => {
      write.text(m.id).text(m.instance).int16(m.error).tags()
    })
  write.tags()
  return 'answer'
}

function leaving(read: Exchange['read']): { id: string; instance: string | null } {
  const one = { id: read.name(), instance: read.text() }
  read.tags()
  return one
}

function offsetCommit({ read, write, version, cluster }: Exchange): Outcome {
  const group = cluster.groups.of(read.name())
  const generation = read.int32()
  const error = group.mayCommit(read.name(), generation)
  if (version >= 7) read.text()
  if (version < 5) read.int64()
  const topics = read.list(() => {
    const topic = read.name()
    const partitions = read.list(() => {
      const index = read.int32()
      const offset = read.int64()
      if (version >= 6) read.int32()
      const metadata = read.text()
      read.tags()
      if (error === errors.none) group.offsets.set(`${topic} ${index}`, { offset, metadata })
      return index
    })
    read.tags()
    return { topic, partitions }
  })
  if (version >= 3) write.int32(0)
  write.list(topics, ({ topic, partitions }) => {
    write.text(topic).list(partitions, (index) => write.int32(index).int16(error).tags())
    write.tags()
  })
  write.tags()
  return 'answer'
}

interface Places {
  topic: string
  partitions: readonly number[]
}

/** Which places are asked for; null: all of which something is known. */
function placesAsked(read: Exchange['read']): Places[] | null {
  const at = read.at
  const count = read.flexible ? read.uvarint() - 1 : read.int32()
  read.at = at
  const asked = read.list(() => {
    const one = { topic: read.name(), partitions: read.list(read.int32) }
    read.tags()
    return one
  })
  return count < 0 ? null : asked
}

function allPlaces({ offsets }: ReaderGroup): Places[] {
  const all = new Map<string, number[]>()
  for (const place of offsets.keys()) {
    const [topic, index] = place.split(' ') as [string, string]
    all.set(topic, [...(all.get(topic) ?? []), Number(index)])
  }
  return [...all].map(([topic, partitions]) => ({ topic, partitions }))
}

function writeOffsets({ write, version }: Exchange, group: ReaderGroup, places: readonly Places[]): void {
  write.list(places, ({ topic, partitions }) => {
    write.text(topic).list(partitions, (index) => {
      const kept = group.offsets.get(`${topic} ${index}`)
      write.int32(index).int64(kept?.offset ?? -1)
      if (version >= 5) write.int32(-1)
      write
        .text(kept?.metadata ?? '')
        .int16(errors.none)
        .tags()
    })
    write.tags()
  })
}

function offsetFetch(e: Exchange): Outcome {
  const { read, write, version, cluster } = e
  const ask = () => {
    const name = read.name()
    const group = cluster.groups.of(name)
    const places = placesAsked(read) ?? allPlaces(group)
    return { name, group, places }
  }
  if (version >= 8) {
    const asked = read.list(() => {
      const one = ask()
      read.tags()
      return one
    })
    write.int32(0).list(asked, ({ name, group, places }) => {
      write.text(name)
      writeOffsets(e, group, places)
      write.int16(errors.none).tags()
    })
  } else {
    const { group, places } = ask()
    if (version >= 3) write.int32(0)
    writeOffsets(e, group, places)
    if (version >= 2) write.int16(errors.none)
  }
  write.tags()
  return 'answer'
}

export const membershipHandlers: Handlers = { findCoordinator, joinGroup, syncGroup, heartbeat, leaveGroup, offsetCommit, offsetFetch }
