import type { Finding, PlanEquipment } from '~/contract/publication'
import type { ShapeSettings } from '~/contract/shape'
import type { Tag } from '~/contract/tag'
import { some } from '../address/some'
import { handlesOf } from '../equipment/resolve'
import { shapeOf } from '../shape/registry'
import { parseModbusAddress } from '../source/modbus-address'
import type { Scalar } from '../value/deadband'
import { fitsSigned64 } from '../value/whole'

/** How large a tag's whole numbers may become: within 2^53, up to 2^63 - 1, or up to 2^64 - 1. */
type Size = 0 | 1 | 2

/** Told by its value now, by its range, or by the registers that it is read from. */
export function sizeOf(tag: Pick<Tag, 'dataType' | 'address' | 'range'> | undefined, value: Scalar): Size {
  if (typeof value === 'bigint') return fitsSigned64(value) ? 1 : 2
  if (tag?.dataType !== 'integer') return 0
  const most = Math.max(Math.abs(tag.range?.low ?? 0), Math.abs(tag.range?.high ?? 0))
  if (tag.range) return most > 2 ** 63 ? 2 : most > Number.MAX_SAFE_INTEGER ? 1 : 0
  const address = parseModbusAddress(tag.address)
  if ('problem' in address || address.factor !== 1) return 0
  return address.type === 'uint64' ? 2 : address.type === 'int64' ? 1 : 0
}

/**
 * What a receiver will not get as it was: whole numbers that the shape has no place for, that readers of JSON round, or that
 * a conversion, an expression or a member of numbers rounds here. `size` tells of a tag by its handle.
 */
export function wholeFindings(settings: ShapeSettings, equipment: readonly PlanEquipment[], size: (handle: number) => Size): Finding[] {
  const beyond: string[] = []
  const roundedThere: string[] = []
  const roundedHere: string[] = []
  const shape = shapeOf(settings)
  const asNumbers = 'wholes' in settings && settings.wholes === 'number' && !('form' in settings && settings.form !== 'json')
  for (const one of equipment)
    for (const m of one.members) {
      let largest: Size = 0
      for (const h of handlesOf(m.fill)) largest = Math.max(largest, size(h)) as Size
      if (largest === 0) continue
      const name = `${one.name} ${m.label || m.key}`
      const { fill } = m
      const kept = m.dataType === 'integer' && fill.kind === 'tag' && fill.factor === 1 && fill.offset === 0
      if (!kept && m.dataType !== 'text') roundedHere.push(name)
      else if (largest === 2 && shape.wholes === 'signed-64') beyond.push(name)
      else if (asNumbers && kept) roundedThere.push(name)
    }
  const say = (names: readonly string[], message: (who: string) => string, hint: string): Finding[] =>
    names.length === 0 ? [] : [{ severity: 'warns', section: 'shape', message: message(some(names)), hint }]
  return [
    ...say(
      beyond,
      (who) => `${who} may go beyond 2^63 - 1, for which ${shape.label} has no place: such values go out as bad, out of range`,
      'Take a shape that holds all of 64 bits, as JSON, CBOR or MessagePack',
    ),
    ...say(
      roundedThere,
      (who) => `${who} may go beyond 2^53, which many readers of JSON round`,
      'Write whole numbers beyond 2^53 as text, unless the receivers are known to keep them',
    ),
    ...say(
      roundedHere,
      (who) => `${who} is rounded beyond 2^53, and then goes out as uncertain`,
      'Only a member of type integer, filled by a tag without a conversion of units, keeps all digits',
    ),
  ]
}
