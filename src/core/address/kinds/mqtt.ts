import type { MqttAddress } from '~/contract/addresses/mqtt'
import { proxyUses } from '~/contract/broker-reach'
import { brokerPlace, serversOf } from '~/contract/place'
import type { Finding, Mend } from '~/contract/publication'
import { assurances } from '../../delivery/envelope'
import { mqttMeter } from '../../mqtt/meter'
import { qosOf } from '../../mqtt/qos'
import { shapeOf } from '../../shape/registry'
import { finding } from '../finding'
import type { AddressKind } from '../kind'
import { readByFilter } from '../read-by-filter'
import { topicFindings } from '../topic-check'
import { templateProblems, topicLevels } from '../topic-template'

export const mqttAddress: AddressKind<'mqtt'> = {
  nouns: ['topic', 'topics'],
  fresh: {
    kind: 'mqtt',
    topic: '{path}/state',
    topicRule: 'slug',
    headers: [],
    contentType: '',
    responseTopic: '',
    expiryS: null,
    qos: 1,
    retain: false,
  },
  words: {
    topicRule: 'names in the topic',
    headers: 'headers',
    contentType: 'content type',
    responseTopic: 'response topic',
    expiryS: 'expiry',
    qos: 'QoS',
    retain: 'retain',
  },
  levels: topicLevels,
  lastWord: 'acknowledged',
  together: null,
  meter: ({ protocol, tls, transport, aliases }) =>
    transport === 'websocket' ? null : mqttMeter({ version: protocol === '5' ? 5 : 4, tls, aliases }),
  texts: ({ topic, topicRule, headers, responseTopic }) => ({ place: topic, rule: topicRule, key: '', headers, responseTopic }),
  placeProblems: templateProblems,
  placeFindings: topicFindings,
  safety(a, shape) {
    const out: Finding[] = []
    const say = (message: string, hint: string, mend?: Mend) => out.push({ ...finding('warns', 'safely', message, hint), ...(mend && { mend }) })
    const atOnce: Mend = { label: 'Send at QoS 1', set: { address: { ...a, qos: 1 } } }
    if (a.retain && a.qos === 0)
      say('A retained message at QoS 0 may be lost on its way', 'QoS 1 makes sure that the last value is the one kept', atOnce)
    if (a.qos === 0 && !shapeOf(shape).fixed) say('At QoS 0 nothing is sent again after a lost link', 'Choose QoS 1 to send at least once', atOnce)
    if (a.retain && 'members' in shape && shape.members === 'changed')
      say('A retained message with only what changed gives a new subscriber a part', 'Send all members, or do not retain', {
        label: 'Send all members',
        set: { shape: { ...shape, members: 'all' } },
      })
    return out
  },
  beyond(a, shape, { protocol }) {
    if (protocol === '5') return []
    const out: Finding[] = []
    if (shape.kind === 'cloudevents' && shape.mode === 'binary')
      out.push(
        finding(
          'stops',
          'shape',
          'CloudEvents in binary mode have their attributes in headers, and the destination speaks MQTT 3.1.1, which has none',
          'Take structured mode, or MQTT 5 there if the broker knows it',
        ),
      )
    if (a.headers.length > 0 || a.responseTopic !== '' || a.expiryS !== null)
      out.push(
        finding(
          'warns',
          'through',
          'The destination speaks MQTT 3.1.1, which has no headers, expiry or response topic: they are left out',
          'Take MQTT 5 there if the broker knows it',
        ),
      )
    return out
  },
  prescribed: (a, { assurance, kept }) => ({ ...a, qos: qosOf[assurance], retain: kept }),
  sentAs: ({ qos, retain, expiryS }) => ({ assurance: assurances[qos]!, kept: retain, expiryS, how: '' }),
  beside: (place, suffix) => place + suffix,
  ...readByFilter,
  apart: (m, text) => text(m.place),
  leftBehind(before, after) {
    if (!before.address.retain) return []
    const keeps = after.address.kind === 'mqtt' && after.address.retain
    const kept = new Set(keeps ? after.messages.flatMap((m) => (typeof m.place === 'string' ? [m.place] : [])) : [])
    const places = before.messages.flatMap((m) => (typeof m.place === 'string' && m.place !== '' && !kept.has(m.place) ? [m.place] : []))
    return [...new Set(places)].map((place) => ({ place, key: '' }))
  },
  leaves: { nouns: ['retained message', 'retained messages'], taken: true },
  bindings: ({ qos, retain, expiryS }) => ({
    protocol: 'mqtt',
    channel: {},
    operation: (o) => ({
      qos,
      retain: o.first || retain,
      ...(o.headers && expiryS !== null && { messageExpiryInterval: expiryS }),
      bindingVersion: '0.2.0',
    }),
  }),
  server: ({ host, port, tls, protocol }) => ({
    host: `${host}:${port}`,
    protocol: tls ? 'secure-mqtt' : 'mqtt',
    version: protocol,
    headers: protocol === '5',
  }),
  identity: ({ clientId, witnessClientId }, witness) => (witness ? witnessClientId : clientId),
  reached: ({ host, port, tls, otherHosts = '' }) => [{ host, port }, ...(serversOf(otherHosts) ?? [])].map((at) => brokerPlace({ ...at, tls })),
  furtherCredentials: ['proxyCredentialId'],
  furtherUses: proxyUses,
  narrows: ({ protocol }) => (protocol === '5' ? null : 'protocol'),
  summary: ({ qos, retain, headers }: MqttAddress) =>
    `QoS ${qos}${retain ? ', retained' : ''}${headers.length > 0 ? `, ${headers.length} ${headers.length === 1 ? 'header' : 'headers'}` : ''}`,
}
