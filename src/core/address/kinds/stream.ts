import type { TopicRule } from '~/contract/addresses/text'
import { webAddress } from '~/contract/destinations/http'
import type { StreamSettings } from '~/contract/destinations/stream'
import { nodePlace, serversOf, webPlace } from '~/contract/place'
import type { Finding, PlanMessage } from '~/contract/publication'
import type { ShapeSettings } from '~/contract/shape'
import { isFramed } from '../../shape/framed'
import { compressionOf } from '../../shape/registry'
import type { AddressKind, LeftBehind } from '../kind'
import { some } from '../some'
import type { TemplateProblem } from '../template'
import { type Levels, levelBy, placeProblems } from '../topic-template'

/** So long may the name of a topic be, characters. */
const NAME_MAX = 249
const LEGAL = /^[A-Za-z0-9._-]*$/

/** A name as one level of a stream's topic: letters, digits, dashes and underscores of ASCII, since nothing else is taken there. */
function level(rule: TopicRule, name: string): string {
  return levelBy(rule, name)
    .normalize('NFKD')
    .replace(/\p{M}/gu, '')
    .replace(/[^A-Za-z0-9_-]+/g, rule === 'underscores' ? '_' : '-')
    .replace(/^-+|-+$/g, '')
}
const streamLevels: Levels = { separator: '.', level }

function templateFaults(template: string): TemplateProblem[] {
  const out = placeProblems(template, (text) => {
    const bad = /[^A-Za-z0-9._-]/.exec(text)
    return bad && { at: bad.index, message: `${bad[0]} may not stand in a topic there: letters, digits, dots, dashes and underscores may` }
  })
  const waits = /\{\s*(value|time)\./.exec(template)
  if (waits) out.push({ at: waits.index, message: 'A topic there is made before messages come: put values and times into the key' })
  return out
}

const finding = (severity: Finding['severity'], message: string, hint: string): Finding => ({ severity, section: 'address', message, hint })

export const streamAddress: AddressKind<'stream'> = {
  nouns: ['topic', 'topics'],
  fresh: { kind: 'stream', topic: '{enterprise}.{class}', topicRule: 'slug', key: '{path}', headers: [], contentType: '' },
  words: { topicRule: 'names in the topic', key: 'key', headers: 'headers', contentType: 'content type' },
  levels: streamLevels,
  lastWord: 'acknowledged',
  together: null,
  texts: ({ topic, topicRule, key, headers }) => ({ place: topic, rule: topicRule, key, headers, responseTopic: '' }),
  placeProblems: templateFaults,
  placeFindings(places) {
    const out: Finding[] = []
    const long = places.filter((p) => p.length > NAME_MAX)
    const wrong = places.filter((p) => !LEGAL.test(p) || p === '.' || p === '..' || p === '')
    // Names with a dot and with an underscore in the same place are one in what the cluster measures.
    const folded = new Map<string, string>()
    const twins: string[] = []
    for (const p of places) {
      const key = p.replaceAll('_', '.')
      const other = folded.get(key)
      if (other === undefined) folded.set(key, p)
      else if (other !== p && twins.length < 5) twins.push(`${other} and ${p}`)
    }
    if (long.length > 0)
      out.push(
        finding('stops', `Longer than ${NAME_MAX} characters: ${some(long)}`, 'Shorten the template; what tells equipment apart can be in the key'),
      )
    if (wrong.length > 0)
      out.push(
        finding(
          'stops',
          `No name for a topic there: ${some(wrong)}`,
          'Letters, digits, dots, dashes and underscores of ASCII make one: use the filter slug',
        ),
      )
    if (twins.length > 0)
      out.push(finding('warns', `Differ only in dot and underscore: ${some(twins)}`, 'The cluster cannot tell them apart in its figures: change one'))
    if (new Set(places).size > 200)
      out.push(
        finding(
          'warns',
          `${new Set(places).size} topics`,
          'Each is made and kept by itself in the cluster: fewer topics, with the equipment in the key, are lighter',
        ),
      )
    return out
  },
  safety: () => [],
  beyond: (_a, shape, to) => registryFindings(shape, to),
  prescribed: (a) => a,
  // There are no degrees: each goes out until the cluster has it.
  sentAs: () => ({ assurance: 'acknowledged', kept: false, expiryS: null, how: '' }),
  beside: (place, suffix) =>
    `${place}.${suffix
      .split('/')
      .filter(Boolean)
      .map((l) => level('slug', l))
      .join('.')}`,
  reads: (places, suffixes) => {
    const fixed = new Set(places.flatMap((p) => (typeof p === 'string' && p !== '' ? [p] : [])))
    return [...fixed, ...[...fixed].flatMap((p) => suffixes.map((s) => streamAddress.beside(p, s)))].sort()
  },
  overlap: (a, b) => a === b,
  mayBecome: (resolved, place) => resolved === place,
  apart: (m, text) => `${text(m.place)} ${text(m.key)}`,
  leftBehind(before, after) {
    const named = (m: PlanMessage): LeftBehind[] =>
      typeof m.place === 'string' && typeof m.key === 'string' && m.key !== '' ? [{ place: m.place, key: m.key }] : []
    const one = ({ place, key }: LeftBehind) => `${place} ${key}`
    const sent = new Set(after.address.kind === 'stream' ? after.messages.flatMap(named).map(one) : [])
    const left = new Map(before.messages.flatMap(named).map((l) => [one(l), l]))
    return [...left.values()].filter((l) => !sent.has(one(l)))
  },
  // Only a topic that keeps the last of each key has a use for it: others read a message that holds nothing.
  leaves: { nouns: ['key', 'keys'], taken: false },
  bindings: () => ({ protocol: 'kafka', channel: {}, operation: () => ({}), message: { key: { type: 'string' }, bindingVersion: '0.5.0' } }),
  server: ({ servers, tls }) => {
    const [first] = serversOf(servers) ?? []
    const protocol = tls ? 'kafka-secure' : 'kafka'
    return { host: first ? `${first.host}:${first.port}` : 'unknown', protocol, version: '', headers: true }
  },
  identity: ({ clientId }, witness) => (witness ? `${clientId}-witness` : clientId),
  reached: ({ servers, tls }) => (serversOf(servers) ?? []).map((one) => nodePlace(tls, one)),
  numbersSchemas: true,
  furtherCredentials: ['registryAuthorityId', 'registryCredentialId'],
  furtherUses: ({ registryUrl = '', registryCredentialId = null }) => {
    const url = webAddress(registryUrl)
    return url && registryCredentialId ? [{ credentialId: registryCredentialId, field: 'registryCredentialId', place: webPlace(url) }] : []
  },
  narrows: ({ registryUrl = '' }) => (registryUrl === '' ? 'registryUrl' : null),
  summary: ({ key, headers }) =>
    `key ${key === '' ? 'as the topic' : key}${headers.length > 0 ? `, ${headers.length} ${headers.length === 1 ? 'header' : 'headers'}` : ''}`,
}

function registryFindings(shape: ShapeSettings, { registryUrl = '' }: StreamSettings): Finding[] {
  if (!isFramed(shape)) return []
  const stops = (message: string, hint: string): Finding => ({ severity: 'stops', section: 'through', message, hint })
  return [
    ...(registryUrl === ''
      ? [stops('The destination names no schema registry, which would give schemas their numbers', 'Name it in the destination, or take no frame')]
      : []),
    ...(compressionOf(shape) === 'none'
      ? []
      : [stops('A payload that is compressed as a whole does not begin with the number of its schema', 'Have the destination compress')]),
  ]
}
