import { type ErrorCode, errors } from './api'
import { type Exchange, faultOf, type Handlers, may, type Outcome } from './exchange'
import type { Partition } from './log'
import { type Batch, Corrupt, readBatches, UnknownPacking } from './records'

interface Put {
  index: number
  error: ErrorCode
  offset: number
  words: string | null
}

function batchesOf(e: Exchange, octets: Buffer): Batch[] | { error: ErrorCode; words: string } {
  try {
    return readBatches(octets, e.cluster.unpacking)
  } catch (x) {
    if (x instanceof UnknownPacking) return { error: errors.unsupportedCompressionType, words: x.message }
    if (x instanceof Corrupt) return { error: errors.corruptMessage, words: x.message }
    throw x
  }
}

function whyNot(e: Exchange, topic: string, partition: Partition | null, octets: Buffer): ErrorCode {
  const { full, maximumBatch } = e.cluster.faults.settings
  if (!may(e, 'write', topic)) return errors.topicAuthorizationFailed
  if (!partition) return errors.unknownTopicOrPartition
  if (partition.leader !== e.node) return errors.notLeaderOrFollower
  const fault = faultOf(e, topic)
  if (fault !== null) return fault
  if (octets.length > maximumBatch) return errors.messageTooLarge
  return full ? errors.storageError : errors.none
}

/** Keeps what came for one partition: all batches of it, or none. */
function put(e: Exchange, topic: string, index: number, octets: Buffer): Put {
  const { topics, faults, truth } = e.cluster
  const partition = topics.partition(topic, index)
  const refuse = (error: ErrorCode, words: string | null = null): Put => ({ index, error, offset: -1, words })
  const error = whyNot(e, topic, partition, octets)
  if (error !== errors.none || !partition) return refuse(error)
  const batches = batchesOf(e, octets)
  if ('error' in batches) return refuse(batches.error, batches.words)
  if (batches.some((b) => b.records.length === 0)) return refuse(errors.invalidRecord, 'a batch without records')
  let first: number | null = null
  for (const batch of batches) {
    const judged = partition.judge(batch)
    if (judged.error !== errors.none) return refuse(judged.error)
    const offset = judged.offset ?? partition.keep(batch, e.clientId, faults, truth)
    first ??= offset
  }
  return { index, error: errors.none, offset: first ?? -1, words: null }
}

/** Produce: transactional id, acknowledgements, time-out, and per topic and partition its batches. */
function produce(e: Exchange): Outcome {
  const { read, write, version } = e
  read.text()
  const acks = read.int16()
  read.int32()
  const done = read.list(() => {
    const topic = read.name()
    const partitions = read.list(() => {
      const index = read.int32()
      const octets = read.bytes() ?? Buffer.alloc(0)
      read.tags()
      return put(e, topic, index, octets)
    })
    read.tags()
    return { topic, partitions }
  })
  write.list(done, ({ topic, partitions }) => {
    write.text(topic).list(partitions, (p) => {
      write.int32(p.index).int16(p.error).int64(p.offset).int64(-1)
      if (version >= 5) write.int64(e.cluster.topics.partition(topic, p.index)?.start ?? -1)
      if (version >= 8) write.list([], () => undefined).text(p.words)
      write.tags()
    })
    write.tags()
  })
  write.int32(e.cluster.faults.settings.throttleMs).tags()
  const kept = done.some((t) => t.partitions.some((p) => p.error === errors.none))
  if (kept && e.cluster.faults.losesAnswer()) return 'lost'
  return acks === 0 ? 'nothing' : 'answer'
}

function initProducerId({ read, write, version, cluster }: Exchange): Outcome {
  read.text()
  read.int32()
  const [id, epoch] = version >= 3 ? [read.int64(), read.int16()] : [-1n, -1]
  write.int32(0).int16(errors.none)
  // Who has one already gets it again under the next epoch.
  write.int64(id >= 0n ? id : cluster.nextProducerId()).int16(id >= 0n ? epoch + 1 : 0)
  write.tags()
  return 'answer'
}

export const produceHandlers: Handlers = { produce, initProducerId }
