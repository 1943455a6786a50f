import type { Failure, Hop } from './failure-form'

export type { CheckStep, Failure, Hop } from './failure-form'

/** A failure on its way up; the edge turns it into an answer with its status. */
export class FailureError extends Error {
  constructor(
    readonly failure: Failure,
    /** HTTP status to answer with (RFC 9110 15). */
    readonly status = 400,
  ) {
    super(failure.message)
    this.name = 'FailureError'
  }
}

/** Shorthand: `throw fail(404, 'source.unknown', 'There is no such source', 'Refresh the list', 'source')`. */
export function fail(status: number, code: string, message: string, hint: string, where: Hop): FailureError {
  return new FailureError({ code, message, hint, where }, status)
}
