import type { Address } from '~/contract/address'
import type { ShapeSettings } from '~/contract/shape'
import { kindOf } from '../address/kinds'
import { shapeOf } from '../shape/registry'

/** A draft with what its shape prescribes in the place of what was chosen. */
export function asPrescribed<D extends { shape: ShapeSettings; address: Address }>(draft: D): D {
  const { fixed } = shapeOf(draft.shape)
  return fixed ? { ...draft, address: kindOf(draft.address).prescribed(draft.address, fixed) } : draft
}
