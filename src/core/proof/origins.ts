import type { Fill } from '~/contract/fill'
import type { Plan, PlanMember, Resolved } from '~/contract/publication'
import { handlesOf } from '../equipment/resolve'

/** What a member of a message was made from. */
export interface Origin {
  key: string
  label: string
  unit: string
  how: 'tag' | 'expression' | 'constant' | 'step'
  /** Text of the expression; the constant; empty. */
  text: string
  /** Handles that it reads. */
  handles: number[]
}

const special = /[.*+?^${}()|[\]\\]/g

/** Whether a place can have become this one: what waits for values of the message may have become anything. */
export function mayBe(place: Resolved, is: string): boolean {
  return typeof place === 'string' ? place === is : patternOf(place).test(is)
}

/** What a place that waits for values may have become. */
export function patternOf(place: Exclude<Resolved, string>): RegExp {
  const pattern = place.map((piece) => (typeof piece === 'string' ? piece.replace(special, '\\$&') : '.*')).join('')
  return new RegExp(`^${pattern}$`, 's')
}

/** What is read in the end, beneath conversions, look-ups, smoothing and the like. */
function beneath(fill: Fill): Fill {
  return 'input' in fill ? beneath(fill.input) : fill
}

/** From what a member of an equipment of a plan, told by its place there, is made. */
export function originOf(plan: Plan, equipment: number, m: PlanMember): Origin {
  const { key, label, unit } = m
  const fill = beneath(m.fill)
  const named = { key, label: label || key, unit }
  if (fill.kind === 'row') {
    // It came through a step that takes its time: what was there before it under the same name.
    const before = (plan.stages ?? []).map((stage) => stage.equipment[equipment]?.find((x) => x.key === key)).find((x) => x && x.fill.kind !== 'row')
    if (before) return originOf(plan, equipment, before)
    return { ...named, how: 'step', text: '', handles: [] }
  }
  if (fill.kind === 'constant') return { ...named, how: 'constant', text: String(fill.value), handles: [] }
  return {
    ...named,
    how: fill.kind === 'expression' ? 'expression' : 'tag',
    text: fill.kind === 'expression' ? fill.text : '',
    handles: [...handlesOf(fill)],
  }
}

/** Messages that carry what is read under a handle. */
export interface Carrier {
  /** Where they may go. */
  place: Resolved
  /** Labels of the members that it fills there. */
  members: string[]
  /** Others that do not carry it may go there too: nothing tells them apart. */
  shared: boolean
}

/** Which of a plan's messages carry what is read under a handle. */
export function carriersOf(plan: Plan, handle: number): Carrier[] {
  const fed = plan.equipment.map(
    (e, n) => new Map(e.members.flatMap((m, i) => (originOf(plan, n, m).handles.includes(handle) ? [[i, m.label || m.key]] : []))),
  )
  const carried = plan.messages.map((m) =>
    m.equipment.flatMap((e) => [...fed[e]!].flatMap(([i, label]) => (m.members === null || m.members.includes(i) ? [label] : []))),
  )
  const others = new Set(plan.messages.flatMap((m, n) => (carried[n]!.length === 0 && typeof m.place === 'string' ? [m.place] : [])))
  const loose = plan.messages.some((m, n) => carried[n]!.length === 0 && typeof m.place !== 'string')
  return plan.messages.flatMap(({ place }, n) => {
    const members = carried[n]!
    // Places that wait for values may become any place.
    const shared = loose || (typeof place === 'string' ? others.has(place) : others.size > 0)
    return members.length > 0 ? [{ place, members, shared }] : []
  })
}

/** From what each member of a message to this place was made, by equipment. Several publications' messages may go to one place: all that may be it. */
export function originsOf(plan: Plan, place: string): { equipment: string; id: string; members: Origin[] }[] {
  const members = new Map<number, Set<number>>()
  for (const m of plan.messages) {
    if (!mayBe(m.place, place)) continue
    for (const e of m.equipment) {
      const own = members.get(e) ?? new Set<number>()
      for (const i of m.members ?? plan.equipment[e]!.members.keys()) own.add(i)
      members.set(e, own)
    }
  }
  return [...members].map(([e, own]) => {
    const { name, id, members: all } = plan.equipment[e]!
    return { equipment: name, id, members: [...own].sort((a, b) => a - b).map((i) => originOf(plan, e, all[i]!)) }
  })
}
