import { Button } from '~/ui/Button'
import { ProblemNote } from '~/ui/Notes'
import { failureIn } from '../app/api'

interface Asked {
  error: unknown
  refetch(): unknown
}

/** What was asked for and could not be answered: why, what to do, and asking once more. Nothing while all is well. */
export function Failed({ of, flush = false }: { of: Asked | readonly Asked[]; flush?: boolean }) {
  const all: readonly Asked[] = Array.isArray(of) ? of : [of as Asked]
  const failed = all.filter((one) => one.error)
  if (failed.length === 0) return null
  const again = () => {
    for (const one of failed) void one.refetch()
  }
  return (
    <div className={flush ? '' : 'p-4'}>
      <ProblemNote problem={failureIn(failed[0]!.error)} action={<Button onClick={again}>Try again</Button>} />
    </div>
  )
}
