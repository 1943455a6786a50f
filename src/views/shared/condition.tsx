import type { Condition } from '~/contract/live'
import { Glyph, type GlyphState } from '~/ui/Glyph'

const glyphs: Record<Condition['state'], GlyphState> = { running: 'good', starting: 'uncertain', trouble: 'bad', off: 'idle' }

/** What runs while a part of it does not is drawn as uncertain. */
export const glyphOf = (c: Condition | null | undefined): GlyphState =>
  !c ? 'idle' : c.state === 'running' && c.doubt ? 'uncertain' : glyphs[c.state]

/** How something is doing, as short as a cell of a list has room for. */
export const conditionWords = (c: Condition | null | undefined): string => (!c ? '...' : c.state === 'running' ? 'running' : c.reason)

/** How something is doing, in a glyph and words. */
export function ConditionText({ condition }: { condition: Condition | null | undefined }) {
  if (!condition) return <span className="text-muted">not known</span>
  return (
    <span className="inline-flex items-center gap-2">
      <Glyph state={glyphOf(condition)} title={condition.state} />
      <span className={condition.state === 'trouble' ? 'text-bad' : ''}>
        {condition.state}
        {condition.reason && condition.state !== 'trouble' ? (
          <span className="text-muted"> {condition.reason}</span>
        ) : condition.reason ? (
          `: ${condition.reason}`
        ) : (
          ''
        )}
        {condition.doubt && <span className="text-uncertain">; {condition.doubt}</span>}
      </span>
    </span>
  )
}
