import type { HubProfile } from '~/contract/hub-profile'
import { fillParts, parseTemplate } from '../address/template'
import { matches } from '../address/topic-filter'
import { recipeProblems } from '../credential/token/fill'

/** Whom a profile is filled in for. */
export interface HubUnit {
  host: string
  port: number
  unit: string
}

const OF_UNIT = ['host', 'port', 'unit']
const OF_TOPIC = [...OF_UNIT, 'place', 'properties']
const OF_ANSWER = [...OF_UNIT, 'topic']
const list = (keys: readonly string[]) => keys.map((key) => `{${key}}`).join(' ')
const parsed = (template: string, keys: readonly string[]) => parseTemplate(template, (key) => keys.includes(key), list(keys))

const ofUnit =
  ({ host, port, unit }: HubUnit) =>
  (key: string): string =>
    key === 'host' ? host : key === 'port' ? String(port) : key === 'unit' ? unit : ''

/** A template that stands for one unit. */
export const filledFor = (template: string, of: HubUnit): string => fillParts(parsed(template, OF_UNIT).parts, ofUnit(of)).text

/** Written as in addresses (RFC 3986 2.1): neither what parts properties nor what has a meaning in topics stays. */
const encoded = (text: string): string =>
  encodeURIComponent(text.toWellFormed()).replace(/[!'()*]/g, (c) => `%${c.charCodeAt(0).toString(16).toUpperCase()}`)

/** `name=value&name=value`. */
export const propertiesText = (properties: readonly (readonly [string, string])[]): string =>
  properties.map(([name, value]) => `${encoded(name)}=${encoded(value)}`).join('&')

/** Makes the writer of topics of one unit: from a place, and what is written beside the payload. */
export function topicWriter(profile: HubProfile, of: HubUnit): (place: string, properties: readonly (readonly [string, string])[]) => string {
  const { parts } = parsed(profile.topic, OF_TOPIC)
  const unit = ofUnit(of)
  return (place, properties) =>
    fillParts(parts, (key) => (key === 'place' ? place : key === 'properties' ? propertiesText(properties) : unit(key))).text
}

/** Makes the writer of topics at which a unit answers to what came at a place below its filter. */
export function answerWriter(profile: HubProfile, of: HubUnit): (place: string) => string {
  const { parts } = parsed(profile.answerTopic, OF_ANSWER)
  const unit = ofUnit(of)
  return (place) => fillParts(parts, (key) => (key === 'topic' ? place : unit(key))).text
}

/** Whether what a unit says comes back to it where it listens. */
function hearsItself(profile: HubProfile): boolean {
  if (profile.downFilter === '') return false
  const of: HubUnit = { host: 'h', port: 1, unit: 'u' }
  const filter = filledFor(profile.downFilter, of)
  const [topic, answer] = [topicWriter(profile, of), answerWriter(profile, of)]
  if (profile.selfTopic !== '' && matches(filter, filledFor(profile.selfTopic, of))) return true
  return ['x', 'x/y', 'x/y/z'].some(
    (place) => matches(filter, topic(place, [['a', 'b']])) || (profile.answerTopic !== '' && matches(filter, answer(place))),
  )
}

/** What cannot be used of a profile, by field. */
export function profileProblems(profile: HubProfile): Record<string, string> {
  const out: Record<string, string> = {}
  const look = (field: string, template: string, keys: readonly string[]) => {
    const [problem] = parsed(template, keys).problems
    if (problem) out[field] ??= problem.message
  }
  look('clientId', profile.clientId, OF_UNIT)
  // The user of a token is a template of the credential's, with {identity} in the place of {unit}.
  look('topic', profile.topic, OF_TOPIC)
  look('downFilter', profile.downFilter, OF_UNIT)
  look('answerTopic', profile.answerTopic, OF_ANSWER)
  look('selfTopic', profile.selfTopic, OF_UNIT)
  look('registryPath', profile.registryPath, OF_UNIT)
  look('logPath', profile.logPath, OF_UNIT)
  if (/[+#]/.test(profile.selfTopic.replace(/\{[^{}]*\}/g, ''))) out.selfTopic ??= 'A wildcard may not stand in a topic'
  if (/#./.test(profile.downFilter.replace(/\{[^{}]*\}/g, 'x'))) out.downFilter ??= '# stands at the end only'
  if (Object.keys(out).length === 0 && hearsItself(profile))
    out.downFilter = 'What this unit says itself comes under it: it would answer to itself without end'
  if (profile.answerTopic !== '' && profile.downFilter === '') out.answerTopic ??= 'To what? Say where the hub hands things down'
  if (!/\{\s*place\s*[|}]/.test(profile.topic)) out.topic ??= '{place} must stand in it, or all messages go to one topic'
  const says = /\{\s*properties\s*[|}]/.test(profile.topic)
  if (profile.properties === 'topic' && !says) out.topic ??= '{properties} must stand in it, where they go'
  if (profile.properties !== 'topic' && says) out.properties ??= '{properties} stands in the topic'
  if (profile.properties === 'user' && profile.protocol !== '5') out.properties ??= 'MQTT 3.1.1 has nothing beside a payload'
  if (/[+#]/.test(profile.topic.replace(/\{[^{}]*\}/g, ''))) out.topic ??= 'A wildcard may not stand in a topic'
  if (profile.readBack === 'stream' && profile.properties === 'none' && profile.placeHeader === '')
    out.placeHeader ??= 'Without properties messages are known by place and payload: where does an event tell the place?'
  if (profile.readBack === 'stream' && profile.properties !== 'none' && profile.idHeader === '')
    out.idHeader ??= 'By what are messages known in the events?'
  if (profile.logInBy === 'token' && !profile.token) out.logInBy ??= 'How are tokens made?'
  if (profile.token)
    for (const [field, problem] of Object.entries(recipeProblems(profile.token, profile.user))) out[field.replace('recipe.', 'token.')] ??= problem
  return out
}

/** What parts properties from what stands before them in a topic: a place may not hold it. Empty: properties go elsewhere. */
const partingOf = ({ topic, properties }: HubProfile): string =>
  properties === 'topic' ? (/([^{}])\{\s*properties\s*[|}]/.exec(topic)?.[1] ?? '') : ''

/** What a message is too much of for a hub; null: nothing. */
export function beyondProfile(
  profile: HubProfile,
  m: { qos: number; kept: boolean; octets: number; place: string },
): { code: string; message: string; hint: string } | null {
  if (m.kept) return { code: 'retained', message: 'hubs keep no retained messages', hint: 'Switch retain off in the publication' }
  if (m.qos > Number(profile.qosMost))
    return { code: 'qos', message: `the hub takes no QoS above ${profile.qosMost}, it has ${m.qos}`, hint: 'Choose a lower QoS in the publication' }
  if (profile.payloadOctets !== null && m.octets > profile.payloadOctets)
    return {
      code: 'size',
      message: `it has ${m.octets} octets, the hub takes ${profile.payloadOctets}`,
      hint: 'Send less in one message, or a smaller shape',
    }
  if (profile.oneLevel && m.place.includes('/'))
    return {
      code: 'place',
      message: `a ${profile.placeWord} has no levels there, and it is ${m.place.slice(0, 80)}`,
      hint: 'Change the template of the address',
    }
  const parting = partingOf(profile)
  if (parting !== '' && parting !== '/' && m.place.includes(parting))
    return {
      code: 'place',
      message: `${parting} stands in ${m.place.slice(0, 80)}, and the hub takes what follows it for properties`,
      hint: 'Let a rule or the filter slug in the address replace it',
    }
  return null
}
