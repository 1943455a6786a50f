import { type ErrorCode, errors, ID_OCTETS } from './api'
import { type Exchange, type Handlers, may, type Outcome } from './exchange'
import type { Kept, Partition } from './log'
import { writeBatch } from './records'

interface Wanted {
  topic: string
  /** By which it was asked for; null: by its name. */
  id: Buffer | null
  index: number
  offset: number
  most: number
}
interface Found {
  wanted: Wanted
  partition: Partition | null
  error: ErrorCode
  records: Kept[]
}

function find(e: Exchange, wanted: Wanted): Found {
  const partition = e.cluster.topics.partition(wanted.topic, wanted.index)
  const none = (error: ErrorCode): Found => ({ wanted, partition, error, records: [] })
  if (wanted.id && wanted.topic === '') return none(errors.unknownTopicId)
  if (!may(e, 'read', wanted.topic)) return none(errors.topicAuthorizationFailed)
  if (!partition) return none(errors.unknownTopicOrPartition)
  if (partition.leader !== e.node) return none(errors.notLeaderOrFollower)
  if (wanted.offset < partition.start || wanted.offset > partition.next) return none(errors.offsetOutOfRange)
  return { ...none(errors.none), records: partition.read(wanted.offset, wanted.most) }
}

/** Resolves when one of these partitions has news, the time is over, or the client is gone. */
function news(partitions: readonly Partition[], ms: number, gone: Promise<void>): Promise<void> {
  return new Promise((done) => {
    const over = () => {
      clearTimeout(timer)
      for (const stop of stops) stop()
      done()
    }
    const timer = setTimeout(over, ms)
    const stops = partitions.map((p) => p.onNews(over))
    void gone.then(over)
  })
}

/** Fetch: waits until there are enough octets, or for as long as the client wants. Without sessions: each asks for all. */
async function fetch(e: Exchange): Promise<Outcome> {
  const { read, write, version, cluster } = e
  read.int32()
  const [maxWaitMs, minOctets, maxOctets] = [read.int32(), read.int32(), read.int32()]
  read.int8()
  if (version >= 7) {
    read.int32()
    read.int32()
  }
  const wanted = read
    .list(() => {
      // From version 13 on topics are told by their ids (KIP-516).
      const id = version >= 13 ? read.raw(ID_OCTETS) : null
      const topic = id ? cluster.topics.named(id) : read.name()
      const partitions = read.list((): Wanted => {
        const index = read.int32()
        if (version >= 9) read.int32()
        const offset = Number(read.int64())
        if (version >= 12) read.int32()
        if (version >= 5) read.int64()
        const most = read.int32()
        read.tags()
        return { topic, id, index, offset, most: Math.min(most, maxOctets) }
      })
      read.tags()
      return partitions
    })
    .flat()
  const end = performance.now() + maxWaitMs
  let found = wanted.map((w) => find(e, w))
  const enough = () => found.some((f) => f.error !== errors.none) || found.reduce((n, f) => n + octetsOf(f.records), 0) >= Math.max(1, minOctets)
  let left = true
  void e.gone.then(() => {
    left = false
  })
  while (left && !enough() && performance.now() < end) {
    await news(
      found.flatMap((f) => f.partition ?? []),
      end - performance.now(),
      e.gone,
    )
    found = wanted.map((w) => find(e, w))
  }
  write.int32(cluster.faults.settings.throttleMs)
  if (version >= 7) write.int16(errors.none).int32(0)
  write.list([...grouped(found)], ([topic, of]) => {
    const { id } = of[0]!.wanted
    if (id) write.raw(id)
    else write.text(topic)
    write.list(of, (f) => {
      const { next = -1, start = -1 } = f.partition ?? {}
      write.int32(f.wanted.index).int16(f.error).int64(next).int64(next)
      if (version >= 5) write.int64(start)
      write.list(null, () => undefined)
      if (version >= 11) write.int32(-1)
      write.bytes(f.records.length > 0 ? writeBatch(f.records) : Buffer.alloc(0)).tags()
    })
    write.tags()
  })
  write.tags()
  return 'answer'
}

const octetsOf = (records: readonly Kept[]) => records.reduce((n, r) => n + 40 + (r.key?.length ?? 0) + (r.value?.length ?? 0), 0)

function grouped(found: readonly Found[]): Map<string, Found[]> {
  const out = new Map<string, Found[]>()
  for (const f of found) {
    const key = f.wanted.id?.toString('hex') ?? f.wanted.topic
    out.set(key, [...(out.get(key) ?? []), f])
  }
  return out
}

const LATEST = -1n
const EARLIEST = -2n

function listOffsets(e: Exchange): Outcome {
  const { read, write, version } = e
  read.int32()
  if (version >= 2) read.int8()
  const answers = read.list(() => {
    const topic = read.name()
    const partitions = read.list(() => {
      const index = read.int32()
      if (version >= 4) read.int32()
      const at = read.int64()
      read.tags()
      const { partition, error } = find(e, { topic, id: null, index, offset: e.cluster.topics.partition(topic, index)?.next ?? 0, most: 0 })
      if (error !== errors.none || !partition) return { index, error, at: -1, offset: -1 }
      if (at === LATEST) return { index, error, at: -1, offset: partition.next }
      if (at === EARLIEST) return { index, error, at: -1, offset: partition.start }
      const first = partition.records.find((r) => BigInt(r.at) >= at)
      return { index, error, at: first?.at ?? -1, offset: first?.offset ?? -1 }
    })
    read.tags()
    return { topic, partitions }
  })
  if (version >= 2) write.int32(0)
  write.list(answers, ({ topic, partitions }) => {
    write.text(topic).list(partitions, (p) => {
      write.int32(p.index).int16(p.error).int64(p.at).int64(p.offset)
      if (version >= 4) write.int32(0)
      write.tags()
    })
    write.tags()
  })
  write.tags()
  return 'answer'
}

export const fetchHandlers: Handlers = { fetch, listOffsets }
