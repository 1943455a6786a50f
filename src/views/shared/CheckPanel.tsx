import { Button } from '~/ui/Button'
import { Heading } from '~/ui/Notes'
import { Steps, type useCheck } from './Steps'

/** A connection's check beside its form: its button, its steps, and before the first run what it will try. */
export function CheckPanel({ check, onRun, before }: { check: ReturnType<typeof useCheck>; onRun(): void; before: string }) {
  return (
    <>
      <div className="flex items-center justify-between">
        <Heading>Check</Heading>
        {check.busy ? (
          <Button small onClick={check.stop}>
            Stop
          </Button>
        ) : (
          <Button small onClick={onRun}>
            {check.steps.length > 0 ? 'Check again' : 'Check the connection'}
          </Button>
        )}
      </div>
      {check.steps.length === 0 ? <p className="text-muted">{before}</p> : <Steps steps={check.steps} />}
    </>
  )
}
