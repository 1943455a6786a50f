import { type Failure, FailureError, type Hop } from '~/contract/failure'
import { wordsOf } from './log'

/** Whatever was thrown, in the one form. */
export function failureOf(e: unknown, where: Hop = 'engine'): Failure {
  if (e instanceof FailureError) return e.failure
  return { code: `${where}.failed`, message: wordsOf(e).slice(0, 300), hint: 'The log has more', where }
}

/** What was opened; null where it says why it cannot be, which nobody here can mend. Throws what may pass by itself: a database that is away. */
export async function openedOrLeft<T>(open: () => Promise<T>): Promise<T | null> {
  try {
    return await open()
  } catch (e) {
    if (e instanceof FailureError) return null
    throw e
  }
}
