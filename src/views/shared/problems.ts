import { toast } from 'sonner'
import { failureIn } from '../app/api'

/** Tells what went wrong in passing, for acts that have no form. */
export function tellFailure(e: unknown): void {
  const { message, hint } = failureIn(e)
  toast.error(message, { description: hint })
}

/** For work that has no place to show a problem: it is told in passing, and dealt with. */
export function told(_failure: unknown, thrown: unknown): true {
  tellFailure(thrown)
  return true
}

/** Somebody else saved the same thing first. */
export const isConflict = (e: unknown): boolean => failureIn(e).code === 'version.other'
