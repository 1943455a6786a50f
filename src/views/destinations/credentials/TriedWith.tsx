import type { CredentialUse } from '~/contract/credential'
import { Button } from '~/ui/Button'
import { Glyph, type GlyphState } from '~/ui/Glyph'
import { Heading } from '~/ui/Notes'
import { Steps } from '../../shared/Steps'
import { type Checked, outcomeOf, type useReplacementChecks } from './useReplacementChecks'

const glyphs: Record<ReturnType<typeof outcomeOf>, GlyphState> = { 'not yet': 'idle', running: 'idle', passed: 'good', failed: 'bad' }
const words: Record<ReturnType<typeof outcomeOf>, string> = {
  'not yet': 'not tried yet',
  running: 'is tried',
  passed: 'connects with it',
  failed: 'cannot connect with it',
}

/** All that use it, and how each gets on with the new one. */
export function TriedWith({
  uses,
  checks,
  onRun,
}: {
  uses: readonly CredentialUse[]
  checks: ReturnType<typeof useReplacementChecks>
  onRun(): void
}) {
  return (
    <>
      <Heading
        level={2}
        aside={
          uses.length > 0 &&
          (checks.busy ? (
            <Button small onClick={checks.stop}>
              Stop
            </Button>
          ) : (
            <Button small onClick={onRun}>
              {checks.checked.size > 0 ? 'Try it again' : 'Try it'}
            </Button>
          ))
        }
      >
        Used by
      </Heading>
      {uses.length === 0 ? (
        <p className="text-muted">Nothing uses it: there is nobody to try it with.</p>
      ) : (
        <ul aria-label="Tried with">
          {uses.map((use) => (
            <Use key={use.id} use={use} checked={checks.checked} />
          ))}
        </ul>
      )}
    </>
  )
}

function Use({ use, checked }: { use: CredentialUse; checked: Checked }) {
  const steps = checked.get(use.id)
  const outcome = outcomeOf(steps)
  return (
    <li className="py-1" data-outcome={outcome}>
      <div className="flex items-center gap-2">
        <Glyph state={glyphs[outcome]} title={words[outcome]} />
        <b className="font-semibold">{use.name}</b>
        <span className="text-muted">{use.kind}</span>
        <span className={`ml-auto ${outcome === 'failed' ? 'text-bad' : 'text-muted'}`}>{words[outcome]}</span>
      </div>
      {outcome === 'failed' && (
        <div className="pl-[22px]">
          <Steps steps={steps!.filter((s) => s.state === 'failed')} />
        </div>
      )}
    </li>
  )
}
