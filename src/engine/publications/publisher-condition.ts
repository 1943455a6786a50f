import type { Condition } from '~/contract/live'
import type { Plan } from '~/contract/publication'
import type { Failing } from './failing'
import type { RowFeed } from './row-feed'

/** What is known of a publication that runs. */
export interface Running {
  plan: Pick<Plan, 'number' | 'messages' | 'feed'>
  base: Omit<Condition, 'state' | 'reason'>
  /** Why nothing of it can be made; null: something can. */
  failing: string | null
  making: Failing
  inSteps: Failing
  /** Messages that wait for a first value. */
  held: number
  rows: RowFeed | null
}

/** How a publication stands, beside how its destination does: the first trouble on the way is told. */
export function publisherCondition(p: Running, destination: Condition | null): Condition {
  const { base, plan, making, inSteps, held, rows } = p
  const all = plan.messages.length
  const failing = p.failing ?? making.words
  if (failing !== null)
    return {
      ...base,
      state: 'trouble',
      reason: `${p.failing === null && making.size < all ? `${making.size} of its ${all} messages` : 'its messages'} can't be made: ${failing}`,
      hint: 'Correct its shape or address and go live again',
    }
  if (!destination || destination.state === 'off')
    return { ...base, state: 'trouble', reason: 'its destination is switched off', hint: 'The outbox holds what comes meanwhile' }
  if (destination.state === 'trouble') return { ...base, state: 'trouble', reason: destination.reason, hint: destination.hint }
  const waits = rows
    ? rowsCondition(p, rows)
    : held === all
      ? waiting('waits for the first values of its tags', 'Look at the tags and their source')
      : null
  if (waits) return { ...base, ...waits }
  if (inSteps.words !== null)
    return {
      ...base,
      state: 'trouble',
      reason: `${inSteps.count} messages did not get through: ${inSteps.words}`,
      hint: 'Correct the step and go live again; the others go on',
    }
  const more = rows ? `; ${rows.count} rows` : held > 0 ? `; ${held} of ${all} messages wait for a first value` : ''
  return { ...base, state: 'running', reason: `version ${plan.number}${more}` }
}

type Told = Pick<Condition, 'state' | 'reason' | 'hint'>
const waiting = (reason: string, hint: string): Told => ({ state: 'starting', reason, hint })

/** How its rows stand, where that is all that is to be said. */
function rowsCondition({ plan }: Pick<Running, 'plan'>, { problem, count }: RowFeed): Told | null {
  const { source } = plan.feed!
  if (problem) return { state: 'trouble', reason: `no rows of ${source}: ${problem.message}`, hint: problem.hint }
  return count === null ? waiting(`waits for the first answer of ${source}`, 'Look at the source') : null
}
