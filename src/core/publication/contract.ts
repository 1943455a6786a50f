import type { Plan, PlanMessage } from '~/contract/publication'
import type { Server } from '../address/kind'
import { kindOf } from '../address/kinds'
import { placeText } from '../address/topic-template'
import { compressionOf, describe, scopeOf, shapeOf } from '../shape/registry'
import type { Description, Scope } from '../shape/shape'

export type PlanLike = Pick<Plan, 'equipment' | 'messages' | 'publicationId' | 'number' | 'shape' | 'contentType' | 'name' | 'address'>

/** What travels beside the payload: its name, and its value where that is always the same. */
type Headers = [string, string | null][]

/** Messages that look alike, as a receiver is told of them. */
export interface Alike {
  title: string
  language: Description['language']
  description: unknown
  /** Messages that go before these, retained, on topics of their own. */
  before: { topics: string[]; language: Description['language']; description: unknown } | null
  headers: Headers
  /** Places of the messages in the plan. */
  places: number[]
}

/** What a receiver needs to read the messages of a publication. */
export interface Contract {
  publication: string
  format: string
  standard: string
  contentType: string
  compression: string
  /** Each way in which messages look, with the topics of those that do, and what one looks like now. */
  messages: {
    title: string
    topics: string[]
    topicCount: number
    language: Description['language']
    description: unknown
    headers: { name: string; value: string | null }[]
    before: Alike['before']
    example: unknown
  }[]
}

/** Gives a payload as a message of the plan has it now; null when there is none. */
export type ExampleOf = (place: number) => unknown

const TOPICS = 20

const titleOf = (plan: PlanLike, m: PlanMessage) => {
  const one = plan.equipment[m.equipment[0] ?? 0]
  if (m.equipment.length > 1) return plan.name
  return m.members?.length === 1 ? `${one?.className} ${one?.members[m.members[0]!]?.label}` : (one?.className ?? plan.name)
}

/** What must be the same for two messages to look alike. */
const likeness = (plan: PlanLike, m: PlanMessage) =>
  m.equipment
    .map((e) => {
      const { className, members } = plan.equipment[e]!
      return JSON.stringify([className, m.members, members.map((x) => [x.key, x.dataType, x.unit, x.label, x.range])])
    })
    .join('|')

function headersOf(plan: PlanLike, all: readonly Scope[], messages: readonly PlanMessage[]): Headers {
  const compression = compressionOf(plan.shape)
  const own = messages[0]!.headers.map(([name], h): [string, string | null] => {
    const values = new Set(messages.map((m) => m.headers[h]?.[1]))
    const [only] = values
    return [name, values.size === 1 && typeof only === 'string' ? only : null]
  })
  return [
    ...(compression === 'none' ? [] : [['content-encoding', compression === 'zlib' ? 'deflate' : compression] as [string, string]]),
    ...(shapeOf(plan.shape).headers?.(plan.shape, all) ?? []),
    ...own,
  ]
}

/** Messages that look alike, together: equipment of one class mostly do. What is told of them holds for every one. */
export function alike(plan: PlanLike): Alike[] {
  const shape = shapeOf(plan.shape)
  const groups = new Map<string, number[]>()
  plan.messages.forEach((m, n) => {
    const key = likeness(plan, m)
    const list = groups.get(key)
    if (list) list.push(n)
    else groups.set(key, [n])
  })
  return [...groups.values()].map((places) => {
    const messages = places.map((n) => plan.messages[n]!)
    const all = messages.map((m) => scopeOf(plan, m))
    const { language, content } = describe(plan.shape, all[0]!, all)
    const suffixes = shape.suffixes?.(plan.shape) ?? []
    const before = suffixes.length > 0 ? shape.describeBefore?.(plan.shape, all[0]!, all) : undefined
    return {
      title: titleOf(plan, messages[0]!),
      language,
      description: content,
      before: before
        ? {
            topics: messages.flatMap((m) => suffixes.map((s) => kindOf(plan.address).beside(placeOf(plan, m), s))),
            language: before.language,
            description: before.content,
          }
        : null,
      headers: headersOf(plan, all, messages),
      places,
    }
  })
}

export const placeOf = (plan: PlanLike, m: PlanMessage) =>
  placeText(
    m.place,
    plan.equipment[m.equipment[0] ?? 0]?.members.map((x) => x.key),
  )

export function contractOf(plan: PlanLike, exampleOf: ExampleOf): Contract {
  const shape = shapeOf(plan.shape)
  return {
    publication: plan.name,
    format: shape.label,
    standard: shape.standard,
    contentType: plan.contentType,
    compression: 'compression' in plan.shape ? plan.shape.compression : 'none',
    messages: alike(plan).map(({ title, language, description, before, headers, places }) => ({
      title,
      topics: places.slice(0, TOPICS).map((n) => placeOf(plan, plan.messages[n]!)),
      topicCount: places.length,
      language,
      description,
      headers: headers.map(([name, value]) => ({ name, value })),
      before: before && { ...before, topics: before.topics.slice(0, TOPICS) },
      example: exampleOf(places[0]!),
    })),
  }
}

const nameOf = (text: string) => text.replace(/[^A-Za-z0-9_-]+/g, '-').replace(/^-+|-+$/g, '') || 'x'

function unique(taken: Set<string>, text: string): string {
  const base = nameOf(text)
  let name = base
  for (let n = 2; taken.has(name); n++) name = `${base}-${n}`
  taken.add(name)
  return name
}

export interface NamedServer extends Server {
  name: string
}

/** A payload as AsyncAPI 3.0 tells it (multi-format schema object). */
const payloadOf = (language: Description['language'], content: unknown) =>
  language === 'schema'
    ? { schemaFormat: 'application/schema+json;version=draft-2020-12', schema: content }
    : language === 'avro'
      ? { schemaFormat: 'application/vnd.apache.avro;version=1.9.0', schema: content }
      : {
          schemaFormat: 'application/vnd.aai.asyncapi;version=3.0.0',
          schema: { description: typeof content === 'string' ? content : JSON.stringify(content) },
        }

const headersSchema = (headers: Headers) => ({
  type: 'object',
  properties: Object.fromEntries(headers.map(([name, value]) => [name, value === null ? { type: 'string' } : { type: 'string', const: value }])),
  required: [...new Set(headers.map(([name]) => name))],
})

/** Levels of a topic that wait for values, or that a filter leaves open, as parameters. */
function addressOf(topic: string): { address: string; parameters: string[] } {
  let open = 0
  const named = topic
    .replace(/\{([^{}]+)\}/g, (_, p: string) => `{${nameOf(p.replaceAll('.', '_'))}}`)
    .replace(/(^|\/)[+#](?=\/|$)/g, (_, slash: string) => `${slash}{level${++open}}`)
  return { address: named, parameters: [...named.matchAll(/\{([^{}]+)\}/g)].map((p) => p[1]!) }
}

/**
 * An AsyncAPI 3.0 document of everything that a publication sends: a channel a topic (what waits for values is a parameter), a
 * message for each way in which they look, an operation that sends to all; the messages that go before others too.
 */
export function asyncApi(plan: PlanLike, server: NamedServer, exampleOf: ExampleOf): Record<string, unknown> {
  const channels: Record<string, unknown> = {}
  /** Messages of each channel, by its address: what shares one place shares its channel. */
  const sent = new Map<string, Record<string, { $ref: string }>>()
  const messages: Record<string, unknown> = {}
  const operations: Record<string, unknown> = {}
  const takenChannels = new Set<string>()
  const takenMessages = new Set<string>()
  const serverName = nameOf(server.name)
  const withHeaders = server.headers
  const kind = kindOf(plan.address)
  const { protocol, channel: own, operation, message: ofMessage } = kind.bindings(plan.address)
  const channel = (topic: string, message: string, subscribe: string, first: boolean, about: string) => {
    const { address, parameters } = addressOf(topic)
    const there = sent.get(address)
    const reference = { [message]: { $ref: `#/components/messages/${message}` } }
    if (there) return void Object.assign(there, reference)
    sent.set(address, reference)
    const name = unique(takenChannels, topic)
    channels[name] = {
      address,
      servers: [{ $ref: `#/servers/${serverName}` }],
      messages: reference,
      ...(parameters.length > 0 && {
        parameters: Object.fromEntries(parameters.map((p) => [p, { description: `Filled in when it is sent; subscribe to ${subscribe}` }])),
      }),
      bindings: { [protocol]: own },
    }
    operations[`send-${name}`] = {
      action: 'send',
      summary: about,
      channel: { $ref: `#/channels/${name}` },
      bindings: { [protocol]: operation({ first, headers: withHeaders }) },
    }
  }
  for (const { title, language, description, before, headers, places } of alike(plan)) {
    const name = unique(takenMessages, title)
    const example = exampleOf(places[0]!)
    messages[name] = {
      name,
      title,
      contentType: plan.contentType,
      ...(withHeaders && headers.length > 0 && { headers: headersSchema(headers) }),
      payload: payloadOf(language, description),
      ...(ofMessage && { bindings: { [protocol]: ofMessage } }),
      ...(example !== null && example !== undefined && { examples: [{ name: 'now', payload: example }] }),
    }
    for (const n of places) {
      const m = plan.messages[n]!
      channel(placeOf(plan, m), name, kind.reads([m.place], [], plan.address)[0] ?? '', false, title)
    }
    if (!before) continue
    const metadata = unique(takenMessages, `${title} metadata`)
    messages[metadata] = {
      name: metadata,
      title: `${title}, metadata`,
      contentType: plan.contentType,
      payload: payloadOf(before.language, before.description),
    }
    for (const topic of before.topics) channel(topic, metadata, topic, true, `${title}, metadata`)
  }
  return {
    asyncapi: '3.0.0',
    info: { title: plan.name, version: String(plan.number), description: `Messages of the publication ${plan.name}.` },
    defaultContentType: plan.contentType,
    servers: { [serverName]: { host: server.host, protocol: server.protocol, ...(server.version !== '' && { protocolVersion: server.version }) } },
    channels,
    operations,
    components: { messages },
  }
}
