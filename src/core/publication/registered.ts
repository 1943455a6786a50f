import type { Plan } from '~/contract/publication'
import { isFramed } from '../shape/framed'
import { alike, placeOf } from './contract'

/** A schema that a registry is to know, and the messages that are of it. */
export interface NeededSchema {
  subject: string
  type: 'AVRO' | 'JSON'
  schema: string
  /** Places in the plan. */
  messages: number[]
}

/** What stands in a registry before the messages of a plan can be framed; nothing where they have no frame. */
export function neededSchemas(plan: Parameters<typeof alike>[0]): NeededSchema[] {
  const { shape } = plan
  if (!isFramed(shape)) return []
  const out = new Map<string, NeededSchema>()
  for (const { language, description, places } of alike(plan))
    for (const n of places) {
      const m = plan.messages[n]!
      const className = plan.equipment[m.equipment[0] ?? 0]?.className ?? ''
      const subject = shape.subject.replaceAll('{place}', placeOf(plan, m)).replaceAll('{class}', className)
      const schema = JSON.stringify(description)
      const key = `${subject} ${schema}`
      const there = out.get(key)
      if (there) there.messages.push(n)
      else out.set(key, { subject, type: language === 'avro' ? 'AVRO' : 'JSON', schema, messages: [n] })
    }
  return [...out.values()]
}

/** A schema that a registry knows, under its number there. */
export interface RegisteredSchema {
  subject: string
  schema: string
  id: number
}

/** A plan whose messages know the numbers of their schemas; null: one of them is not among those that were registered. */
export function withNumbers<P extends Omit<Plan, 'number' | 'delivery'>>(plan: P, registered: readonly RegisteredSchema[]): P | null {
  const numbers = new Map(registered.map((r) => [`${r.subject} ${r.schema}`, r.id]))
  const messages = [...plan.messages]
  for (const needed of neededSchemas({ ...plan, number: 0 })) {
    const id = numbers.get(`${needed.subject} ${needed.schema}`)
    if (id === undefined) return null
    for (const n of needed.messages) messages[n] = { ...messages[n]!, schemaId: id }
  }
  return { ...plan, messages }
}
