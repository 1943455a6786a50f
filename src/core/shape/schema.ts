import type { PlanMember } from '~/contract/publication'
import type { DataType } from '~/contract/tag'
import { unitOf } from '../value/unit'
import type { TextHow } from './text'

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
