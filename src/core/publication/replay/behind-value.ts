import type { Fill } from '~/contract/fill'
import type { Scalar } from '~/core/value/deadband'

/** A tag, and the value that it had. */
export interface Behind {
  handle: number
  value: Scalar
}

/** What `value * factor + offset` was made of; null: it cannot be told. */
function before(value: Scalar, { factor, offset }: { factor: number; offset: number }): Scalar | undefined {
  if (factor === 1 && offset === 0) return value
  if (value === null) return null
  return typeof value === 'number' && factor !== 0 ? (value - offset) / factor : undefined
}

/** Which tag fills a member, and what it held when the member had this value; null: that cannot be told from the value. */
export function behindValue(fill: Fill, value: Scalar): Behind | null {
  if (fill.kind !== 'tag' && fill.kind !== 'as') return null
  const own = before(value, fill)
  if (own === undefined) return null
  if (fill.kind === 'tag') return { handle: fill.handle, value: own }
  // A number that became a text, or the other way round, may have lost something.
  const type = typeof own === 'number' ? ['number', 'integer'] : typeof own === 'boolean' ? ['boolean'] : ['text']
  return own === null || type.includes(fill.inputType) ? behindValue(fill.input, own) : null
}
