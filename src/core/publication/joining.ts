import type { Plan } from '~/contract/publication'
import { shapeOf } from '../shape/registry'
import { sortedText } from '../value/sorted-text'

/** Who joins a publication and who leaves it, by their names; and who would be sent otherwise than now. */
export interface Joined {
  joined: string[]
  left: string[]
  others: string[]
}

type Body = Pick<Plan, 'equipment' | 'messages' | 'stages'>

/** What comes out of a stage stands in places that go through all equipment: they move with who joins, and mean the same. */
const withoutPlaces = (thing: unknown): unknown =>
  JSON.parse(
    JSON.stringify(thing, (_name, value: unknown) =>
      typeof value === 'object' && value !== null && (value as { kind?: unknown }).kind === 'row' ? { kind: 'row' } : value,
    ),
  )
const textOf = (thing: unknown) => sortedText(withoutPlaces(thing))

/** Of a message all but whom it is about, and the number that a registry gave its schema. */
const messageText = ({ equipment: _e, schemaId: _s, ...rest }: Plan['messages'][number]) => textOf(rest)

/** All that is frozen of each equipment: what is read of it, what is done to that, and, if `messages`, where its messages go. */
function frozenOf(body: Body, messages: boolean): Map<string, { name: string; text: string }> {
  const parts = new Map<string, { name: string; texts: string[] }>()
  const of = (place: number) => {
    const { id, name } = body.equipment[place]!
    const part = parts.get(id) ?? { name, texts: [] }
    parts.set(id, part)
    return part.texts
  }
  for (const [place, one] of body.equipment.entries()) {
    of(place).push(textOf(one))
    for (const stage of body.stages ?? []) of(place).push(textOf([stage.equipment[place], stage.gates[place]]))
  }
  if (messages) for (const m of body.messages) if (m.equipment[0] !== undefined) of(m.equipment[0]).push(messageText(m))
  return new Map([...parts].map(([id, { name, texts }]) => [id, { name, text: texts.join('\n') }]))
}

/** What differs between what is live and what would be, with the same settings, as far as whom it is about goes. */
export function joining(live: Body & Pick<Plan, 'shape' | 'name'>, next: Body): Joined {
  const together = shapeOf(live.shape).grouping(live.shape as never) === 'publication'
  const [was, will] = [frozenOf(live, !together), frozenOf(next, !together)]
  const apart = (of: typeof was, from: typeof was) => [...of].filter(([id]) => !from.has(id)).map(([, { name }]) => name)
  const others = [...will].filter(([id, { text }]) => was.has(id) && was.get(id)!.text !== text).map(([, { name }]) => name)
  // One message about all of them may go elsewhere, as its address says whom they have in common.
  const moved = together && live.messages.map(messageText).join('\n') !== next.messages.map(messageText).join('\n')
  return { joined: apart(will, was), left: apart(was, will), others: moved ? [live.name, ...others] : others }
}
