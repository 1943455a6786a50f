import type { Condition } from '~/contract/live'
import { Glyph, type GlyphState } from '~/ui/Glyph'

export const conditionGlyph: Record<Condition['state'], GlyphState> = { running: 'good', starting: 'uncertain', trouble: 'bad', off: 'idle' }

/** How something is doing, in a glyph and words. */
export function ConditionText({ condition }: { condition: Condition | null | undefined }) {
  if (!condition) return <span className="text-muted">not known</span>
  return (
    <span className="inline-flex items-center gap-2">
      <Glyph state={conditionGlyph[condition.state]} title={condition.state} />
      <span className={condition.state === 'trouble' ? 'text-bad' : ''}>
        {condition.state}
        {condition.reason && condition.state !== 'trouble' ? (
          <span className="text-muted"> {condition.reason}</span>
        ) : condition.reason ? (
          `: ${condition.reason}`
        ) : (
          ''
        )}
      </span>
    </span>
  )
}
