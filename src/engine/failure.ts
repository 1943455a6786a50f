import { type Failure, FailureError, type Hop } from '~/contract/failure'
import { wordsOf } from './log'

/** Whatever was thrown, in the one form. */
export function failureOf(e: unknown, where: Hop = 'engine'): Failure {
  if (e instanceof FailureError) return e.failure
  return { code: `${where}.failed`, message: wordsOf(e).slice(0, 300), hint: 'The log has more', where }
}
