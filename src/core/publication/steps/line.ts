import type { PlanGate, PlanMember, PlanStage } from '~/contract/publication'
import type { PlanLookup } from '~/contract/row-place'
import type { LookupTable } from '~/contract/step'
import type { Table } from '../cells/made'
import type { Known } from '../condition'

/** One equipment's message on its way through the steps. */
export interface Line {
  /** Which of the equipment it began as. */
  from: number
  name: string
  members: PlanMember[]
  gates: PlanGate[]
  /** What it was when it came to each step that takes its time. */
  before: { members: PlanMember[]; gates: PlanGate[] }[]
}

/** What the steps of one publication have in common. */
export interface Workings {
  known: Known
  tables: LookupTable[]
  /** The same, made ready. */
  read: Table[]
  /** Sources in whose rows something is looked up; their names are not known here. */
  lookups: (PlanLookup & { step: number })[]
  stages: Pick<PlanStage, 'step' | 'work'>[]
  /** Tells what is wrong with a step for one equipment. */
  say(message: string): void
  /** The step did something for it. */
  did(): void
}

/** Whether a member is meant by a key: it is it, or stands under it. */
export const isUnder = (key: string, of: string): boolean => key === of || key.startsWith(`${of}.`)

/** Why a member of this key cannot stand beside these; null: it can. */
export function inTheWay(members: readonly Pick<PlanMember, 'key'>[], key: string): string | null {
  for (const m of members) {
    if (m.key === key) return `there is a member ${key} already`
    if (isUnder(m.key, key)) return `${key} has members of its own already`
    if (isUnder(key, m.key)) return `${m.key} is a value, and can have no members`
  }
  return null
}

/** A member that a step adds. */
export const added = (key: string, dataType: PlanMember['dataType'], unit: string, fill: PlanMember['fill']): PlanMember => ({
  key,
  dataType,
  unit,
  fill,
  label: key,
  description: '',
  required: false,
  range: null,
  allowed: null,
  tag: '',
})
