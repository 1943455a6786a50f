import type { HttpAddress } from '~/contract/addresses/http'
import type { TopicRule } from '~/contract/addresses/text'
import { type HttpSettings, webAddress } from '~/contract/destinations/http'
import { webPlace } from '~/contract/place'
import type { Finding } from '~/contract/publication'
import type { ShapeSettings } from '~/contract/shape'
import { finding } from '../finding'
import { isJson } from '../json-shapes'
import type { AddressKind } from '../kind'
import { readByFilter } from '../read-by-filter'
import { some } from '../some'
import type { TemplateProblem } from '../template'
import { type Levels, levelBy, placeProblems } from '../topic-template'

/** So long may a path be, characters. */
const PATH_MAX = 2000
/** A token (RFC 9110 5.6.2), which the name of a header must be. */
const TOKEN = /^[!#$%&'*+\-.^_`|~0-9A-Za-z]+$/
/** What Embrik or the protocol itself says. */
const TAKEN = new Set([
  ...['authorization', 'connection', 'content-encoding', 'content-length', 'content-type', 'cookie', 'expect', 'host', 'idempotency-key'],
  ...['keep-alive', 'proxy-authorization', 'te', 'trailer', 'transfer-encoding', 'upgrade'],
])

/** A name as one level of a path: what would have a meaning in an address is percent-encoded (RFC 3986 2.1). */
const pathLevels: Levels = {
  separator: '/',
  level: (rule: TopicRule, name: string) => encodeURIComponent(levelBy(rule, name)),
}

function templateFaults(template: string): TemplateProblem[] {
  const out = placeProblems(template, (text) => {
    const bad = /[^\x21-\x7e]|[#"<>\\^`|]/.exec(text)
    return bad && { at: bad.index, message: `${bad[0] === ' ' ? 'A space' : bad[0]} may not stand in a path: write it percent-encoded` }
  })
  const outside = /^\s*(\/\/|[a-z][a-z0-9+.-]*:)/i.exec(template)
  if (outside) out.push({ at: 0, message: 'Only the path stands here: the rest of the address is of the destination' })
  if (/(^|\/)\.\.?(\/|\?|$)/.test(template))
    out.push({ at: template.indexOf('..'), message: 'No level may be . or ..: it would lead out of the address' })
  return out
}

export const httpAddress: AddressKind<'http'> = {
  nouns: ['path', 'paths'],
  fresh: { kind: 'http', topic: '{path}/state', method: 'POST', topicRule: 'slug', headers: [], contentType: '' },
  words: { topicRule: 'names in the topic', headers: 'headers', contentType: 'content type', method: 'method' },
  levels: pathLevels,
  lastWord: 'acknowledged',
  together: null,
  texts: ({ topic, topicRule, headers }) => ({ place: topic, rule: topicRule, key: '', headers, responseTopic: '' }),
  placeProblems: templateFaults,
  placeFindings(places) {
    const long = places.filter((p) => p.length > PATH_MAX)
    const wrong = places.filter((p) => !/^[\x21-\x7e]+$/.test(p) || /[#"<>\\^`|]/.test(p) || p.startsWith('//') || /(^|\/)\.\.?(\/|\?|$)/.test(p))
    return [
      ...(long.length > 0
        ? [finding('stops', 'address', `Longer than ${PATH_MAX} characters: ${some(long)}`, 'Many servers take no longer ones: shorten the template')]
        : []),
      ...(wrong.length > 0 ? [finding('stops', 'address', `No path: ${some(wrong)}`, 'Use the filter slug, or names of letters and digits')] : []),
    ]
  },
  safety: () => [],
  beyond: (a, shape, to) => [...headerFindings(a), ...batchFindings(shape, to)],
  prescribed: (a) => a,
  // There are no degrees: each goes out until the server has said that it has it.
  sentAs: ({ method }) => ({ assurance: 'acknowledged', kept: false, expiryS: null, how: method }),
  beside: (place, suffix) => place + suffix,
  ...readByFilter,
  apart: (m, text) => text(m.place),
  leftBehind: () => [],
  leaves: { nouns: ['message', 'messages'], taken: false },
  bindings: ({ method }) => ({
    protocol: 'http',
    channel: {},
    operation: () => ({ method, bindingVersion: '0.3.0' }),
  }),
  server: ({ url }) => {
    const { host, protocol } = webAddress(url) ?? { host: 'unknown', protocol: 'http:' }
    return { host, protocol: protocol.replace(/:$/, ''), version: '1.1', headers: true }
  },
  reached: ({ url, tokenUrl, readUrl, loginBy, witness }) => {
    const all = [url, ...(loginBy === 'oauth' ? [tokenUrl] : []), ...(witness ? [readUrl.replaceAll('{cursor}', '0')] : [])]
    return [...new Set(all.flatMap((text) => webAddress(text) ?? []).map(webPlace))]
  },
  narrows: ({ batch }) => (batch === 'one' ? null : 'batch'),
  summary: ({ method, headers }: HttpAddress) =>
    `${method}${headers.length > 0 ? `, ${headers.length} ${headers.length === 1 ? 'header' : 'headers'}` : ''}`,
}

function headerFindings({ headers }: HttpAddress): Finding[] {
  const bad = headers.map((h) => h.name).filter((name) => !TOKEN.test(name))
  const taken = headers.map((h) => h.name).filter((name) => TAKEN.has(name.toLowerCase()))
  return [
    ...(bad.length > 0 ? [finding('stops', 'address', `No name of a header there: ${some(bad)}`, 'Letters, digits and dashes make one')] : []),
    ...(taken.length > 0
      ? [finding('stops', 'address', `Said by Embrik itself: ${some(taken)}`, 'Take another name; log-ins belong to the destination')]
      : []),
  ]
}

function batchFindings(shape: ShapeSettings, { batch }: HttpSettings): Finding[] {
  if (batch === 'one' || isJson(shape)) return []
  return [
    finding(
      'stops',
      'through',
      `A request there holds many messages as ${batch === 'array' ? 'a JSON array' : 'lines of JSON'}, and messages of this shape are no plain JSON`,
      'Take a shape in JSON without compression, or have the destination send one message a request',
    ),
  ]
}
