import type { Fill, PlanMember } from '~/contract/publication'
import type { Trigger } from '~/contract/trigger'
import { compileExpression, type ExpressionVariable, namesIn } from '../expression/compile'

type Members = readonly Pick<PlanMember, 'key' | 'dataType' | 'fill'>[]
type Condition = Extract<Trigger, { kind: 'when' }>

/** What a member is called in a condition: its key, with an underscore for what names of expressions cannot have. */
export const conditionName = (key: string): string => key.replace(/[^A-Za-z0-9_]/g, '_').replace(/^(?=\d)/, '_')

/** A problem of an expression for members of these names and types is that of all of them. */
export type Known = Map<string, string | null>

/** What is wrong with a condition over these members; null: nothing. */
function problemOf(text: string, variables: readonly ExpressionVariable[], known: Known): string | null {
  const sign = `${text}\n${variables.map((v) => `${v.name} ${v.dataType}`).join('\n')}`
  const before = known.get(sign)
  if (before !== undefined) return before
  const compiled = compileExpression(text, variables)
  const problem = !('run' in compiled)
    ? compiled.message
    : compiled.dataType !== null && compiled.dataType !== 'boolean'
      ? `It gives a ${compiled.dataType}, and has to hold or not: compare it with something`
      : null
  known.set(sign, problem)
  return problem
}

/** An expression over members, with nothing left to look up; or what is wrong with it. */
export function conditionFill(text: string, members: Members, known: Known = new Map()): { fill: Fill } | { problem: string } {
  const wanted = new Set(namesIn(text))
  const inputs = members
    .map((m) => ({ name: conditionName(m.key), dataType: m.dataType, fill: m.fill }))
    .filter((input, i, all) => wanted.has(input.name) && all.findIndex((other) => other.name === input.name) === i)
  const problem = problemOf(text, inputs, known)
  return problem === null ? { fill: { kind: 'expression', text, inputs, factor: 1, offset: 0 } } : { problem }
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
