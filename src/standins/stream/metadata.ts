import { type ErrorCode, errors, ID_OCTETS, requests } from './api'
import { type Exchange, type Handlers, may, type Outcome } from './exchange'

/** What no client asked to know. */
const NOT_ASKED = -2_147_483_648
/** The last versions of requests that know no ids of topics. */
const withoutIds: Readonly<Record<number, number>> = { [requests.metadata.key]: 9, [requests.fetch.key]: 12 }
const MOST_PARTITIONS = 200
const nameRule = /^[A-Za-z0-9._-]{1,249}$/

/** ApiVersions: what is understood. Its answer never has the tagged fields of newer headers, since nothing is agreed yet. */
function apiVersions({ write, version, cluster }: Exchange): Outcome {
  const most = ({ key, to }: { key: number; to: number }) => (cluster.tellsIds ? to : (withoutIds[key] ?? to))
  write.int16(errors.none).list(Object.values(requests), (r) => write.int16(r.key).int16(r.from).int16(most(r)).tags())
  if (version >= 1) write.int32(0)
  write.tags()
  return 'answer'
}

function metadata(e: Exchange): Outcome {
  const { read, write, version, cluster } = e
  const at = read.at
  const count = read.flexible ? read.uvarint() - 1 : read.int32()
  read.at = at
  const asked = read.list(() => {
    if (version >= 10) read.raw(ID_OCTETS)
    const name = read.name()
    read.tags()
    return name
  })
  // Version 0 says "all" with an empty list, others with none.
  const all = version === 0 ? count === 0 : count < 0
  const visible = (topic: string) => may(e, 'read', topic) || may(e, 'write', topic)
  const nodes = cluster.nodes(e.listener)
  const live = new Set(nodes.map((n) => n.id))
  if (version >= 3) write.int32(cluster.faults.settings.throttleMs)
  write.list(nodes, (n) => {
    write.int32(n.id).text(n.host).int32(n.port)
    if (version >= 1) write.text(null)
    write.tags()
  })
  if (version >= 2) write.text('varnmoor')
  if (version >= 1) write.int32(nodes[0]!.id)
  write.list(all ? cluster.topics.names().filter(visible) : asked, (topic) => {
    const partitions = cluster.topics.of(topic)
    const error = !visible(topic) ? errors.topicAuthorizationFailed : partitions === null ? errors.unknownTopicOrPartition : errors.none
    write.int16(error).text(topic)
    if (version >= 10) write.raw(error === errors.none ? cluster.topics.id(topic) : Buffer.alloc(ID_OCTETS))
    if (version >= 1) write.bool(false)
    write.list(error === errors.none ? partitions! : [], (p) => {
      write
        .int16(live.has(p.leader) ? errors.none : errors.leaderNotAvailable)
        .int32(p.index)
        .int32(p.leader)
      if (version >= 7) write.int32(0)
      write.list([p.leader], (id) => write.int32(id)).list([p.leader], (id) => write.int32(id))
      if (version >= 5) write.list([], () => undefined)
      write.tags()
    })
    if (version >= 8) write.int32(NOT_ASKED)
    write.tags()
  })
  if (version >= 8) write.int32(NOT_ASKED)
  write.tags()
  return 'answer'
}

function createTopics(e: Exchange): Outcome {
  const { read, write, version, cluster } = e
  const wanted = read.list(() => {
    const name = read.name()
    const partitions = read.int32()
    read.int16()
    read.list(() => {
      read.int32()
      read.list(read.int32)
      read.tags()
    })
    read.list(() => {
      read.text()
      read.text()
      read.tags()
    })
    read.tags()
    return { name, partitions: partitions < 0 ? 1 : partitions }
  })
  read.int32()
  const validateOnly = version >= 1 && read.bool()
  if (version >= 2) write.int32(0)
  write.list(wanted, ({ name, partitions }) => {
    const error: ErrorCode = !may(e, 'write', name)
      ? errors.topicAuthorizationFailed
      : cluster.topics.of(name) !== null
        ? errors.topicAlreadyExists
        : !nameRule.test(name) || partitions < 1 || partitions > MOST_PARTITIONS
          ? errors.invalidRecord
          : errors.none
    if (error === errors.none && !validateOnly) cluster.topics.add(name, partitions)
    write.text(name).int16(error)
    if (version >= 1) write.text(null)
    if (version >= 5)
      write
        .int32(partitions)
        .int16(1)
        .list([], () => undefined)
    write.tags()
  })
  write.tags()
  return 'answer'
}

export const metadataHandlers: Handlers = { apiVersions, metadata, createTopics }
