import type { Fill } from '~/contract/fill'
import type { PlanMember } from '~/contract/publication'
import type { DataType } from '~/contract/tag'
import type { Trigger } from '~/contract/trigger'
import { compiledOnce, type ExpressionVariable, namesOnce } from '../expression/compile'

type Members = readonly Pick<PlanMember, 'key' | 'dataType' | 'fill'>[]
type Condition = Extract<Trigger, { kind: 'when' }>

/** What a member is called in a condition: its key, with an underscore for what names of expressions cannot have. */
export const conditionName = (key: string): string => key.replace(/[^A-Za-z0-9_]/g, '_').replace(/^(?=\d)/, '_')

/** What is known of an expression for members of these names and types is so for all of them. */
export type Known = Map<string, { dataType: DataType | null } | { problem: string }>

function lookedAt(text: string, variables: readonly ExpressionVariable[], known: Known): { dataType: DataType | null } | { problem: string } {
  const sign = `${text}\n${variables.map((v) => `${v.name} ${v.dataType}`).join('\n')}`
  const before = known.get(sign)
  if (before !== undefined) return before
  const compiled = compiledOnce(text, variables)
  const found = 'run' in compiled ? { dataType: compiled.dataType } : { problem: compiled.message }
  known.set(sign, found)
  return found
}

/**
 * An expression over members, with nothing left to look up, and what it gives (null: that shows only as it runs); or what is
 * wrong with it.
 */
export function expressionFill(
  text: string,
  members: Members,
  known: Known = new Map(),
): { fill: Fill; dataType: DataType | null } | { problem: string } {
  const wanted = new Set(namesOnce(text))
  const inputs = members
    .map((m) => ({ name: conditionName(m.key), dataType: m.dataType, fill: m.fill }))
    .filter((input, i, all) => wanted.has(input.name) && all.findIndex((other) => other.name === input.name) === i)
  const found = lookedAt(text, inputs, known)
  return 'problem' in found ? found : { fill: { kind: 'expression', text, inputs, factor: 1, offset: 0 }, dataType: found.dataType }
}

/** The same of what has to hold or not. */
export function conditionFill(text: string, members: Members, known: Known = new Map()): { fill: Fill } | { problem: string } {
  const found = expressionFill(text, members, known)
  if ('problem' in found || found.dataType === null || found.dataType === 'boolean') return found
  return { problem: `It gives a ${found.dataType}, and has to hold or not: compare it with something` }
}

/** Both expressions of a condition over the members of one equipment. */
export function conditionOf(
  { condition, until = '' }: Pick<Condition, 'condition' | 'until'>,
  members: Members,
  known: Known = new Map(),
): { when: Fill; until: Fill | null } | { problem: string } {
  const when = conditionFill(condition, members, known)
  if ('problem' in when) return when
  if (until === '') return { when: when.fill, until: null }
  const over = conditionFill(until, members, known)
  return 'problem' in over ? { problem: `Until: ${over.problem}` } : { when: when.fill, until: over.fill }
}
