import type { Plan } from '~/contract/publication'

/** Who joins a publication and who leaves it, by their names; and who would be sent otherwise than now. */
export interface Joined {
  joined: string[]
  left: string[]
  others: string[]
}

type Body = Pick<Plan, 'equipment' | 'messages'>

/** The same text for the same thing: a database keeps names in an order of its own. */
const textOf = (thing: unknown): string =>
  JSON.stringify(thing, (_name, value: unknown) =>
    typeof value === 'object' && value !== null && !Array.isArray(value)
      ? Object.fromEntries(Object.entries(value).sort(([a], [b]) => (a < b ? -1 : 1)))
      : value,
  )

/** All that is frozen of each equipment: what is read, and where its messages go. */
function frozenOf({ equipment, messages }: Body): Map<string, { name: string; text: string }> {
  const parts = new Map<string, { name: string; texts: string[] }>()
  const of = (place: number) => {
    const { id, name } = equipment[place]!
    const part = parts.get(id) ?? { name, texts: [] }
    parts.set(id, part)
    return part
  }
  for (const [place, one] of equipment.entries()) of(place).texts.push(textOf(one))
  for (const m of messages) {
    const first = m.equipment[0]
    if (first === undefined) continue
    // Whom else a message is about changes with who joins; where it goes does not.
    const { equipment: _, ...rest } = m
    of(first).texts.push(textOf(rest))
  }
  return new Map([...parts].map(([id, { name, texts }]) => [id, { name, text: texts.join('\n') }]))
}

/** What differs between what is live and what would be, as far as whom it is about goes. */
export function joining(live: Body, next: Body): Joined {
  const [was, will] = [frozenOf(live), frozenOf(next)]
  const apart = (of: typeof was, from: typeof was) => [...of].filter(([id]) => !from.has(id)).map(([, { name }]) => name)
  const others = [...will].filter(([id, { text }]) => was.has(id) && was.get(id)!.text !== text).map(([, { name }]) => name)
  return { joined: apart(will, was), left: apart(was, will), others }
}
