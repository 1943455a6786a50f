import { datagramPlace, placeWritten, relaysOf } from '~/contract/destinations/datagram'
import type { Finding } from '~/contract/publication'
import type { ShapeSettings } from '~/contract/shape'
import { finding } from '../finding'
import type { AddressKind } from '../kind'
import { some } from '../some'
import type { TemplateProblem } from '../template'
import { type Levels, placeProblems } from '../topic-template'

/** A name is part of an address as it is. */
const asItIs: Levels = { separator: '.', level: (_rule, name) => name.trim() }

function templateFaults(template: string): TemplateProblem[] {
  const out = placeProblems(template, (text) => {
    const bad = /[^0-9A-Za-z.:[\]-]/.exec(text)
    return bad && { at: bad.index, message: `${bad[0] === ' ' ? 'A space' : bad[0]} may not stand in it: a group or a host, a colon, the port` }
  })
  const waits = /\{\s*(value|time)\./.exec(template)
  if (waits) out.push({ at: waits.index, message: 'Whoever listens does so before messages come: values and times cannot say where' })
  return out
}

function placeFindings(places: readonly string[]): Finding[] {
  const read = [...new Set(places)].map((text) => ({ text, place: datagramPlace(text) }))
  const wrong = read.flatMap(({ text, place }) => (place ? [] : [text || 'nothing']))
  const otherwise = read.flatMap(({ text, place }) => (place && placeWritten(place) !== text ? [`${text} is ${placeWritten(place)}`] : []))
  const control = read.flatMap(({ text, place }) => (place && isControl(place.host) ? [text] : []))
  const abroad = read.flatMap(({ text, place }) => (place?.group && place.version === 4 && !place.host.startsWith('239.') ? [text] : []))
  const say = (severity: Finding['severity'], list: readonly string[], message: string, hint: string) =>
    list.length > 0 ? [finding(severity, 'address', `${message}: ${some(list)}`, hint)] : []
  return [
    ...say('stops', wrong, 'No group or host with a port', 'Like 239.192.7.1:4840, [ff05::7]:4840 or hmi-3.example:4840'),
    ...say('stops', otherwise, 'Written in another way than it is known', 'Write it so: whoever reads back compares them'),
    ...say(
      'stops',
      control,
      'Groups by which routers and machines speak of themselves',
      'Take one of 239.192.0.0/14, which a plant has for itself (RFC 2365)',
    ),
    ...say(
      'warns',
      abroad.filter((p) => !control.includes(p)),
      'Groups that are somebody else’s by register',
      'Those of 239.192.0.0/14 a plant has for itself (RFC 2365)',
    ),
  ]
}

/** Of the local network control block (RFC 5771 4), of interface and of link scope of all nodes and routers (RFC 4291 2.7.1). */
const isControl = (host: string) => host.startsWith('224.0.0.') || /^ff0[12]::[12]$/.test(host)

export const datagramAddress: AddressKind<'datagram'> = {
  nouns: ['group or host', 'groups and hosts'],
  fresh: { kind: 'datagram', topic: '239.192.0.1:4840' },
  words: {},
  levels: asItIs,
  alien: true,
  lastWord: 'sent',
  together: 'its receivers count the messages of one sender',
  texts: ({ topic }) => ({ place: topic, rule: 'as-is', key: '', headers: [], responseTopic: '' }),
  placeProblems: templateFaults,
  placeFindings,
  safety: () => [
    finding(
      'warns',
      'safely',
      'Nobody acknowledges a datagram: what the network loses is not sent again',
      'A witness that joins the group tells what arrived',
    ),
  ],
  beyond: (a, shape, to) => [...shapeFindings(shape), ...(to.witness ? witnessFindings(a.topic, to.relays) : [])],
  prescribed: (a) => a,
  sentAs: () => ({ assurance: 'sent', kept: false, expiryS: null, how: '' }),
  // What goes before others, such as metadata, goes to the same listeners, who tell it by what is in it.
  beside: (place) => place,
  reads: (places) => [...new Set(places.flatMap((p) => (typeof p === 'string' && p !== '' ? [p] : [])))].sort(),
  overlap: (a, b) => a === b,
  mayBecome: (resolved, place) => resolved === place,
  apart: (m, text) => text(m.place),
  leftBehind: () => [],
  leaves: { nouns: ['datagram', 'datagrams'], taken: false },
  bindings: () => ({ protocol: 'udp', channel: {}, operation: () => ({}) }),
  server: () => ({ host: 'groups', protocol: 'udp', version: '', headers: false }),
  reached: () => [],
  narrows: () => null,
  summary: () => 'a datagram each',
}

function shapeFindings(shape: ShapeSettings): Finding[] {
  if (shape.kind === 'pubsub-uadp') return []
  const binary = shape.kind === 'cloudevents' && shape.mode === 'binary'
  if (shape.kind === 'sparkplug-b' || binary)
    return [
      finding(
        'stops',
        'through',
        binary ? 'CloudEvents in binary mode have their attributes in headers, and a datagram has none' : 'Sparkplug B goes over MQTT only',
        binary ? 'Take structured mode, or OPC UA PubSub in binary' : 'Take OPC UA PubSub in binary (UADP), or a destination over MQTT',
      ),
    ]
  return [
    finding(
      'warns',
      'through',
      'By the standard a datagram holds OPC UA PubSub in binary (UADP, OPC 10000-14 7.3.2): for another shape receivers must have been told',
      'Take UADP, or hand receivers the AsyncAPI document',
    ),
  ]
}

/** What goes to one machine is read by nobody else, unless it is handed on. */
function witnessFindings(template: string, relays: string): Finding[] {
  const place = datagramPlace(template)
  if (!place || place.group || relaysOf(relays)?.has(placeWritten(place))) return []
  return [
    finding(
      'warns',
      'through',
      `${template} is one machine: what goes there nobody else can read, so that the witness of the destination sees nothing of it`,
      'Send to a group, name where it is handed on to, or do without a witness there',
    ),
  ]
}
