import { parseTopicAddress } from '~/core/source/mqtt-address'
import { fieldPlace, parseJson, type Reading, type Taken, takeAs, takeLeaf, textOf } from '~/core/source/payload'
import { type Metric, readSparkplug, sparkplugTopic } from '~/core/source/sparkplug'
import { Status } from '~/core/value/quality'
import type { Batch, TagNote } from '../../live/table'
import { wordsOf } from '../../log'
import type { WantedTag } from '../driver'

interface Leaf {
  tag: WantedTag
  reading: Reading
}

/** What one topic fills. */
interface Topic {
  whole: WantedTag[]
  leaves: Leaf[]
}

/** Takes the tags' values out of messages; knows nothing of a connection. */
export class TopicReader {
  private topics = new Map<string, Topic>()
  /** Sparkplug: metrics wanted by node or device address, then by name. */
  private metrics = new Map<string, Map<string, WantedTag[]>>()
  /** Sparkplug: names by alias, from the births of each node (devices share their node's aliases). */
  private readonly aliases = new Map<string, Map<number, string>>()
  private readonly heard = new Map<number, number>()
  private readonly staled = new Set<number>()
  private batch: Batch = { handles: [], values: [], statuses: [], times: [] }

  constructor(private readonly fields: { timeField: string; qualityField: string; staleS: number }) {}

  /** Gives the tags whose address means nothing, with why. */
  setTags(tags: readonly WantedTag[]): { tag: WantedTag; problem: string }[] {
    const wrong: { tag: WantedTag; problem: string }[] = []
    this.topics = new Map()
    this.metrics = new Map()
    const handles = new Set(tags.map((t) => t.handle))
    for (const h of this.heard.keys()) if (!handles.has(h)) this.heard.delete(h)
    for (const tag of tags) {
      const a = parseTopicAddress(tag.address)
      if ('problem' in a) {
        wrong.push({ tag, problem: a.problem })
        continue
      }
      if (a.kind === 'sparkplug') {
        const of = this.metrics.get(a.topic) ?? new Map<string, WantedTag[]>()
        of.set(a.metric, [...(of.get(a.metric) ?? []), tag])
        this.metrics.set(a.topic, of)
        continue
      }
      const topic = this.topics.get(a.topic) ?? { whole: [], leaves: [] }
      this.topics.set(a.topic, topic)
      if (a.kind === 'payload') topic.whole.push(tag)
      else
        topic.leaves.push({
          tag,
          reading: {
            pointer: a.pointer,
            dataType: tag.dataType,
            time: fieldPlace(this.fields.timeField, a.pointer),
            quality: fieldPlace(this.fields.qualityField, a.pointer),
          },
        })
    }
    return wrong
  }

  /** Whether a rebirth should be asked of this node: it speaks in aliases that nobody here has heard of. */
  message(topic: string, bytes: Uint8Array, now: number): { rebirth: string | null } {
    const one = this.topics.get(topic)
    if (one) this.payload(one, bytes, now)
    return this.metrics.size > 0 ? this.sparkplug(topic, bytes, now) : { rebirth: null }
  }

  private payload(topic: Topic, bytes: Uint8Array, now: number): void {
    const text = textOf(bytes)
    for (const tag of topic.whole) {
      if (bytes.length === 0) this.put(tag, { value: null, status: Status.noData, time: null, note: 'The message is empty' }, now, bytes)
      else if (text === null) this.put(tag, { value: null, status: Status.decoding, time: null, note: 'The payload is no text' }, now, bytes)
      else this.put(tag, { ...takeAs(text, tag.dataType), time: null }, now, bytes)
    }
    if (topic.leaves.length === 0) return
    let document: unknown
    let problem: string | null = null
    try {
      if (text === null) throw new Error('it is not UTF-8')
      document = parseJson(text)
    } catch (e) {
      problem = `The payload is not JSON: ${wordsOf(e).slice(0, 160)}`
    }
    for (const { tag, reading } of topic.leaves)
      this.put(tag, problem ? { value: null, status: Status.decoding, time: null, note: problem } : takeLeaf(document, reading), now, bytes)
  }

  private sparkplug(topic: string, bytes: Uint8Array, now: number): { rebirth: string | null } {
    const at = sparkplugTopic(topic)
    if (!at || !/^[ND](BIRTH|DATA|DEATH)$/.test(at.type)) return { rebirth: null }
    if (at.type.endsWith('DEATH')) {
      // A node takes its devices along (Sparkplug 3.0 6.4.21).
      for (const [address, metrics] of this.metrics)
        if (address === at.address || (at.device === null && address.startsWith(`${at.node}/`)))
          for (const tags of metrics.values())
            for (const tag of tags)
              this.put(
                tag,
                { value: null, status: Status.noCommunication, time: null, note: `${at.type}: the sender says that it is gone` },
                now,
                null,
              )
      return { rebirth: null }
    }
    const wanted = this.metrics.get(at.address)
    let payload: ReturnType<typeof readSparkplug>
    try {
      payload = readSparkplug(bytes)
    } catch (e) {
      for (const tags of wanted?.values() ?? [])
        for (const tag of tags)
          this.put(
            tag,
            { value: null, status: Status.decoding, time: null, note: `Not a Sparkplug payload: ${wordsOf(e).slice(0, 120)}` },
            now,
            bytes,
          )
      return { rebirth: null }
    }
    if (at.type === 'NBIRTH') this.aliases.set(at.node, new Map())
    const names = this.aliases.get(at.node) ?? new Map<number, string>()
    let unknown = false
    for (const m of payload.metrics) {
      if (m.name !== null && m.alias !== null) {
        names.set(m.alias, m.name)
        this.aliases.set(at.node, names)
      }
      const name = m.name ?? (m.alias !== null ? names.get(m.alias) : undefined)
      if (name === undefined) {
        unknown = true
        continue
      }
      for (const tag of wanted?.get(name) ?? []) this.put(tag, this.metric(m, tag, payload.time), now, bytes)
    }
    return { rebirth: unknown ? at.node : null }
  }

  private metric(m: Metric, tag: WantedTag, payloadTime: number | null): Taken {
    const taken = takeAs(m.value ?? null, tag.dataType)
    return {
      value: taken.value,
      status: taken.status === Status.good ? m.status : taken.status,
      time: m.time ?? payloadTime,
      ...(taken.note && { note: taken.note }),
    }
  }

  private put(tag: WantedTag, taken: Taken, now: number, bytes: Uint8Array | null): void {
    this.heard.set(tag.handle, now)
    this.staled.delete(tag.handle)
    this.batch.handles.push(tag.handle)
    this.batch.values.push(taken.value)
    this.batch.statuses.push(taken.status)
    this.batch.times.push(taken.time ?? now)
    if (taken.note) {
      const note: TagNote = { at: now, text: taken.note, ...(bytes && { bytes }) }
      ;(this.batch.notes ??= new Map()).set(tag.handle, note)
    }
  }

  /** What has come since the last call; null when nothing has. */
  drain(): Batch | null {
    if (this.batch.handles.length === 0) return null
    const out = this.batch
    this.batch = { handles: [], values: [], statuses: [], times: [] }
    return out
  }

  /** Handles that have had no message for too long and were not said to be stale yet. */
  stale(now: number): number[] {
    if (this.fields.staleS === 0) return []
    const out: number[] = []
    for (const [handle, at] of this.heard)
      if (now - at > this.fields.staleS * 1000 && !this.staled.has(handle)) {
        this.staled.add(handle)
        out.push(handle)
      }
    return out
  }
}
