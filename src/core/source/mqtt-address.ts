import { parsePointer } from './json-leaf'

/** Where a tag's value comes from at a broker. */
export interface TopicAddress {
  /** `sparkplug`: a metric of an edge node or device, in births and data alike. */
  kind: 'payload' | 'json' | 'sparkplug'
  topic: string
  /** Place in the JSON document, for `json`. */
  pointer: string[]
  /** Name of the metric, for `sparkplug`. */
  metric: string
}

/**
 * Reads `topic` (the whole payload is the value), `topic#/pointer` (a leaf of JSON, RFC 6901), or `spBv1.0/group/node[/device]#metric`
 * (a Sparkplug metric: the message type is left out, since births and data both carry it). # can't stand in a topic name (MQTT 5 4.7.1), so it parts the two.
 */
export function parseTopicAddress(text: string): TopicAddress | { problem: string } {
  const at = text.indexOf('#')
  const topic = at < 0 ? text : text.slice(0, at)
  const rest = at < 0 ? null : text.slice(at + 1)
  if (topic === '' || topic.includes('\0')) return { problem: 'Which topic? Like probes/1, or probes/1#/moisture for a leaf of JSON' }
  if (topic.includes('+')) return { problem: 'A tag has one topic: no + in it' }
  if (new TextEncoder().encode(topic).length > 65_535) return { problem: 'A topic has at most 65,535 octets' }
  if (topic.startsWith('spBv1.0/') && rest !== null && !rest.startsWith('/')) {
    const levels = topic.split('/').length
    if (levels !== 3 && levels !== 4) return { problem: 'A Sparkplug metric is spBv1.0/group/node#metric or spBv1.0/group/node/device#metric' }
    if (rest === '') return { problem: 'Which metric, after the #?' }
    return { kind: 'sparkplug', topic, pointer: [], metric: rest }
  }
  if (rest === null) return { kind: 'payload', topic, pointer: [], metric: '' }
  const pointer = parsePointer(rest)
  if (!pointer) return { problem: 'After the # comes a place in JSON, like /moisture or /values/0' }
  return { kind: 'json', topic, pointer, metric: '' }
}
