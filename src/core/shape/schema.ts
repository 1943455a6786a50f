import type { PlanMember } from '~/contract/publication'
import type { DataType } from '~/contract/tag'
import { unitOf } from '../value/unit'
import type { TextHow } from './text'

/** So many values are listed; of more only the type is told. */
const LISTED = 200

/** JSON Schema of something that is one of these: `{ const: 'Zone 7' }`, `{ enum: [...] }`, or only its type. */
export function oneOf(values: readonly (string | number)[], else_: Record<string, unknown>): Record<string, unknown> {
  const own = [...new Set(values)]
  return own.length === 1 ? { const: own[0] } : own.length <= LISTED ? { enum: own } : else_
}

const TYPES: Record<DataType, string> = { number: 'number', integer: 'integer', boolean: 'boolean', text: 'string', time: 'string' }

/** JSON Schema of a member's value as a shape writes it. Ranges are what is expected, not what is promised: they stand in `x-range`. */
export function valueSchema(m: PlanMember, how: Pick<TextHow, 'nonFinite' | 'wholes'>): Record<string, unknown> {
  const numeric = m.dataType === 'number' || m.dataType === 'integer'
  const types = [TYPES[m.dataType], ...(numeric && (how.nonFinite === 'text' || how.wholes === 'text') ? ['string'] : []), 'null']
  const unit = m.unit ? unitOf(m.unit) : undefined
  return {
    title: m.label || m.key,
    ...(m.description && { description: m.description }),
    type: types,
    ...(m.allowed && { examples: m.allowed }),
    ...(m.range && { 'x-range': [m.range.low, m.range.high] }),
    ...(m.unit && { 'x-unit': m.unit, ...(unit && { 'x-unit-ucum': unit.ucum }), ...(unit?.cefact && { 'x-unit-cefact': unit.cefact }) }),
  }
}
