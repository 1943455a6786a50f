import { qualityOf, reasonOf, Status } from '~/core/value/quality'
import type { GlyphState } from '~/ui/Glyph'
import type { ShownValue } from '../app/live/live'

/** The glyph of a tag's present quality; without a value yet it is idle. */
export function valueGlyph(v: ShownValue | undefined): GlyphState {
  if (!v || v[2] === Status.waitingForInitialData) return 'idle'
  return qualityOf(v[2])
}

/** `good`, or the reason why not. */
export function valueReason(v: ShownValue | undefined): string {
  return v ? reasonOf(v[2]) : ''
}
