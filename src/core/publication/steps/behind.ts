import type { Fill } from '~/contract/fill'
import type { Plan } from '~/contract/publication'
import { handlesOf } from '../../equipment/resolve'
import { outOf } from './effects'

type Body = Pick<Plan, 'equipment' | 'stages'> & Partial<Pick<Plan, 'messages'>>

const rowsIn = (fill: Fill): number[] =>
  fill.kind === 'row'
    ? [fill.place]
    : fill.kind === 'expression'
      ? fill.inputs.flatMap((i) => rowsIn(i.fill))
      : 'input' in fill
        ? rowsIn(fill.input)
        : []

/** Tells for what fills a member of an equipment which tags are behind it, by handle, however many stages lie between. */
export function tagsBehind({ stages = [] }: Body): (equipment: number, fill: Fill) => Set<number> {
  const begins = stages.map((stage) => {
    let at = 0
    return stage.equipment.map((members) => {
      const begin = at
      at += outOf(stage.work, members).length
      return begin
    })
  })
  const look = (s: number, e: number, fill: Fill, into: Set<number>): Set<number> => {
    handlesOf(fill, into)
    const stage = stages[s]
    if (!stage) return into
    for (const place of rowsIn(fill)) {
      const own = stage.equipment[e]?.[place - begins[s]![e]!]
      // What a stage adds comes from all that went into it.
      for (const m of own ? [own] : (stage.equipment[e] ?? [])) look(s - 1, e, m.fill, into)
    }
    return into
  }
  return (e, fill) => look(stages.length - 1, e, fill, new Set())
}

/** Handles of all tags that a plan looks at, each once. */
export function allTags({ equipment, messages = [], stages = [] }: Body): number[] {
  const all = new Set<number>()
  for (const one of equipment) for (const m of one.members) handlesOf(m.fill, all)
  for (const stage of stages) {
    for (const members of stage.equipment) for (const m of members) handlesOf(m.fill, all)
    for (const gates of stage.gates) for (const g of gates) if (g.kind === 'condition') handlesOf(g.when, all)
  }
  for (const { gates = [], condition } of messages) {
    for (const g of gates) if (g.kind === 'condition') handlesOf(g.when, all)
    if (condition) for (const fill of [condition.when, condition.until]) handlesOf(fill, all)
  }
  return [...all]
}
