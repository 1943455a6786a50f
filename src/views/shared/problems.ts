import { toast } from 'sonner'
import { failureIn } from '../app/api'

/** Tells what went wrong in passing, for acts that have no form. */
export function tellFailure(e: unknown): void {
  const { message, hint } = failureIn(e)
  toast.error(message, { description: hint })
}

/** Somebody else saved the same thing first. */
export const isConflict = (e: unknown): boolean => failureIn(e).code === 'version.other'
