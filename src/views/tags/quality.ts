import type { LiveValue } from '~/contract/live'
import { qualityOf, reasonOf, Status } from '~/core/value/quality'
import type { GlyphState } from '~/ui/Glyph'

/** The glyph of a tag's present quality; without a value yet it is idle. */
export function valueGlyph(v: LiveValue | undefined): GlyphState {
  if (!v || v[2] === Status.waitingForInitialData) return 'idle'
  return qualityOf(v[2])
}

/** `good`, or the reason why not. */
export function valueReason(v: LiveValue | undefined): string {
  return v ? reasonOf(v[2]) : ''
}
