import type { HubAddress } from '~/contract/addresses/hub'
import { proxyUses } from '~/contract/broker-reach'
import { webAddress } from '~/contract/destinations/http'
import { brokerPlace, nodePlace, serversOf, webPlace } from '~/contract/place'
import type { Finding } from '~/contract/publication'
import { assurances } from '../../delivery/envelope'
import { filledFor, profileProblems } from '../../hub/profile'
import { qosOf } from '../../mqtt/qos'
import { finding } from '../finding'
import type { AddressKind } from '../kind'
import { readByFilter } from '../read-by-filter'
import { topicFindings } from '../topic-check'
import { templateProblems, topicLevels } from '../topic-template'

/** The last level of a place that tells one from another, where no more than one may be. */
function lastLevel(topic: string): string {
  const tells = (level: string) => level.includes('{') && !LEVELS.test(level)
  return topic.split('/').reverse().find(tells) ?? '{name}'
}
/** What is filled in with levels of its own. */
const LEVELS = /\{\s*(path|tag)\s*[|}]/

export const hubAddress: AddressKind<'hub'> = {
  nouns: ['path', 'paths'],
  fresh: { kind: 'hub', topic: '{path}/state', topicRule: 'slug', headers: [], contentType: '', qos: 1 },
  fitted(a, { profile }) {
    const levels = profile.oneLevel && (a.topic.includes('/') || LEVELS.test(a.topic))
    const qos = Math.min(a.qos, Number(profile.qosMost)) as HubAddress['qos']
    return { address: { ...a, qos, ...(levels && { topic: lastLevel(a.topic) }) }, lost: levels ? ['levels'] : [] }
  },
  words: { topicRule: 'names in the path', headers: 'headers', contentType: 'content type', qos: 'QoS' },
  levels: topicLevels,
  lastWord: 'acknowledged',
  together: 'a hub lets one connection in under a name',
  texts: ({ topic, topicRule, headers }) => ({ place: topic, rule: topicRule, key: '', headers, responseTopic: '' }),
  placeProblems: templateProblems,
  placeFindings: topicFindings,
  safety: (a) =>
    a.qos === 0 ? [finding('warns', 'safely', 'At QoS 0 nothing is sent again after a lost link', 'Choose QoS 1 to send at least once')] : [],
  beyond(a, _shape, { profile }) {
    const out: Finding[] = []
    const stop = (message: string, hint: string) => out.push(finding('stops', 'address', message, hint))
    if (a.qos > Number(profile.qosMost)) stop(`The hub takes no QoS above ${profile.qosMost}`, 'Choose a lower one')
    if (profile.oneLevel && (a.topic.includes('/') || LEVELS.test(a.topic)))
      stop(`A ${profile.placeWord} has no levels at this hub`, 'Take {name} or a text without slashes')
    if (profile.declared)
      out.push({
        ...finding(
          'warns',
          'through',
          `The hub takes only what was declared there as ${profile.placeWord}`,
          'Declare each at the hub: what it does not know goes aside',
        ),
        told: true,
      })
    if (profile.properties === 'none' && a.headers.length > 0)
      out.push(finding('warns', 'through', 'This hub has nothing beside a payload: headers are left out', 'Put into the payload what receivers need'))
    return out
  },
  prescribed: (a, { assurance }) => ({ ...a, qos: qosOf[assurance] }),
  sentAs: ({ qos }) => ({ assurance: assurances[qos]!, kept: false, expiryS: null, how: '' }),
  beside: (place, suffix) => place + suffix,
  ...readByFilter,
  apart: (m, text) => text(m.place),
  leftBehind: () => [],
  leaves: { nouns: ['message', 'messages'], taken: false },
  bindings: ({ qos }) => ({ protocol: 'mqtt', channel: {}, operation: () => ({ qos, bindingVersion: '0.2.0' }) }),
  server: ({ host, port, profile }) => ({
    host: `${host}:${port}`,
    protocol: 'secure-mqtt',
    version: profile.protocol,
    headers: profile.properties !== 'none',
  }),
  identity: ({ host, port, unit, profile }) => filledFor(profile.clientId, { host, port, unit }),
  reached: ({ host, port }) => [brokerPlace({ host, port, tls: true })],
  furtherCredentials: ['eventsAuthorityId', 'proxyCredentialId', 'registryAuthorityId', 'registryCredentialId'],
  furtherUses: ({ registryUrl, registryCredentialId, ...rest }) => {
    const url = webAddress(registryUrl)
    const asked = url && registryCredentialId ? [{ credentialId: registryCredentialId, field: 'registryCredentialId', place: webPlace(url) }] : []
    return [...proxyUses(rest), ...asked]
  },
  settingsProblems: ({ profile }) =>
    Object.fromEntries(Object.entries(profileProblems(profile)).map(([field, problem]) => [`settings.profile.${field}`, problem])),
  witnessReached: ({ eventsServers, eventsTls }) => (serversOf(eventsServers) ?? []).map((one) => nodePlace(eventsTls, one)),
  narrows: () => null,
  summary: ({ qos, headers }: HubAddress) =>
    `QoS ${qos}${headers.length > 0 ? `, ${headers.length} ${headers.length === 1 ? 'header' : 'headers'}` : ''}`,
}
