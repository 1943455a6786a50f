import type { Plan, PlanMessage } from '~/contract/publication'
import { filterOf, topicText } from '../address/topic-template'
import { describe, scopeOf, shapeOf } from '../shape/registry'
import type { Description } from '../shape/shape'

type PlanLike = Pick<Plan, 'equipment' | 'messages' | 'publicationId' | 'number' | 'shape' | 'contentType' | 'name' | 'qos' | 'retain' | 'expiryS'>

/** What a receiver needs to read the messages of a publication. */
export interface Contract {
  publication: string
  format: string
  standard: string
  contentType: string
  compression: string
  /** Each way in which messages look, with the topics of those that do. */
  messages: { title: string; topics: string[]; topicCount: number; language: Description['language']; description: unknown }[]
  example: unknown
}

const TOPICS = 20

const titleOf = (plan: PlanLike, m: PlanMessage) => {
  const one = plan.equipment[m.equipment[0] ?? 0]
  if (m.equipment.length > 1) return plan.name
  return m.members?.length === 1 ? `${one?.className} ${one?.members[m.members[0]!]?.label}` : (one?.className ?? plan.name)
}

/** Messages that look alike, together: equipment of one class mostly do. */
function alike(plan: PlanLike): { title: string; of: Description; messages: PlanMessage[] }[] {
  const out = new Map<string, { title: string; of: Description; messages: PlanMessage[] }>()
  // Described once for each class and members; of many equipment of one class the first stands for all.
  const seen = new Map<string, string>()
  for (const m of plan.messages) {
    const short = m.equipment
      .map(
        (e) =>
          `${plan.equipment[e]!.className} ${plan.equipment[e]!.members.map((x) => `${x.key}:${x.dataType}:${x.unit}`).join()} ${m.members?.join() ?? ''}`,
      )
      .join('|')
    let key = seen.get(short)
    if (key === undefined) {
      const of = describe(plan.shape, scopeOf(plan, m))
      key = JSON.stringify(of)
      seen.set(short, key)
      if (!out.has(key)) out.set(key, { title: titleOf(plan, m), of, messages: [] })
    }
    out.get(key)!.messages.push(m)
  }
  return [...out.values()]
}

const topicOf = (plan: PlanLike, m: PlanMessage) =>
  topicText(
    m.topic,
    plan.equipment[m.equipment[0] ?? 0]?.members.map((x) => x.key),
  )

/** `example` is a payload as it is sent. */
export function contractOf(plan: PlanLike, example: unknown): Contract {
  const shape = shapeOf(plan.shape)
  return {
    publication: plan.name,
    format: shape.label,
    standard: shape.standard,
    contentType: plan.contentType,
    compression: 'compression' in plan.shape ? plan.shape.compression : 'none',
    messages: alike(plan).map(({ title, of, messages }) => ({
      title,
      topics: messages.slice(0, TOPICS).map((m) => topicOf(plan, m)),
      topicCount: messages.length,
      language: of.language,
      description: of.content,
    })),
    example,
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

export interface Server {
  name: string
  host: string
  protocol: string
  version: string
}

/**
 * An AsyncAPI 3.0 document of everything that a publication sends: a channel a topic (what waits for values is a parameter), a
 * message for each way in which they look, an operation that sends to all.
 */
export function asyncApi(plan: PlanLike, server: Server, example: unknown): Record<string, unknown> {
  const channels: Record<string, unknown> = {}
  const messages: Record<string, unknown> = {}
  const takenChannels = new Set<string>()
  const takenMessages = new Set<string>()
  const serverName = nameOf(server.name)
  let exampleLeft = example
  for (const { title, of, messages: list } of alike(plan)) {
    const name = unique(takenMessages, title)
    messages[name] = {
      name,
      title,
      contentType: plan.contentType,
      payload:
        of.language === 'schema'
          ? { schemaFormat: 'application/schema+json;version=draft-2020-12', schema: of.content }
          : of.language === 'avro'
            ? { schemaFormat: 'application/vnd.apache.avro;version=1.9.0', schema: of.content }
            : {
                schemaFormat: 'application/vnd.aai.asyncapi;version=3.0.0',
                schema: { description: typeof of.content === 'string' ? of.content : JSON.stringify(of.content) },
              },
      ...(exampleLeft !== null && exampleLeft !== undefined && { examples: [{ name: 'now', payload: exampleLeft }] }),
    }
    exampleLeft = null
    for (const m of list) {
      const topic = topicOf(plan, m)
      const parameters = [...topic.matchAll(/\{([^{}]+)\}/g)].map((p) => nameOf(p[1]!.replaceAll('.', '_')))
      channels[unique(takenChannels, topic)] = {
        address: topic.replace(/\{([^{}]+)\}/g, (_, p: string) => `{${nameOf(p.replaceAll('.', '_'))}}`),
        servers: [{ $ref: `#/servers/${serverName}` }],
        messages: { [name]: { $ref: `#/components/messages/${name}` } },
        ...(parameters.length > 0 && {
          parameters: Object.fromEntries(parameters.map((p) => [p, { description: `Filled in when it is sent; subscribe to ${filterOf(m.topic)}` }])),
        }),
        bindings: { mqtt: {} },
      }
    }
  }
  return {
    asyncapi: '3.0.0',
    info: { title: plan.name, version: String(plan.number), description: `Messages of the publication ${plan.name}.` },
    defaultContentType: plan.contentType,
    servers: { [serverName]: { host: server.host, protocol: server.protocol, protocolVersion: server.version } },
    channels,
    operations: Object.fromEntries(
      Object.keys(channels).map((c) => [
        `send-${c}`,
        {
          action: 'send',
          channel: { $ref: `#/channels/${c}` },
          bindings: {
            mqtt: {
              qos: plan.qos,
              retain: plan.retain,
              ...(plan.expiryS !== null && { messageExpiryInterval: plan.expiryS }),
              bindingVersion: '0.2.0',
            },
          },
        },
      ]),
    ),
    components: { messages },
  }
}
