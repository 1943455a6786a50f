import type { PlanEquipment, PlanMember } from '~/contract/publication'
import type { DataType } from '~/contract/tag'
import type { Cell } from '../publication/cell'
import type { Scalar } from '../value/deadband'
import { qualityOf, reasonOf } from '../value/quality'
import { isInt64 } from '../value/whole'
import type { Part, Reading } from './shape'

/** Built-in types (OPC 10000-6 5.1.2) of member types: Boolean, Int64, Double, String, DateTime. */
export const BUILT_IN: Record<DataType, number> = { boolean: 1, integer: 8, number: 11, text: 12, time: 13 }

/** Metadata goes with the first message, is retained, and goes again after so long, for brokers that have forgotten it, ms. */
const METADATA_EVERY_MS = 600_000
/** Says when metadata is due. */
export function metadataDue(wanted: boolean): (now: number) => boolean {
  let last = Number.NEGATIVE_INFINITY
  return (now) => {
    if (!wanted || now - last < METADATA_EVERY_MS) return false
    last = now
    return true
  }
}

/** Status of a value that is there but is not of its type. */
const TYPE_MISMATCH = 0x80740000

/** A value as its built-in type takes it, or null, with the status that then holds. */
export function fieldOf(cell: Cell, dataType: DataType): { value: Scalar; status: number } {
  const { value, status } = cell
  if (value === null) return { value: null, status }
  const fits =
    dataType === 'number'
      ? typeof value === 'number'
      : dataType === 'integer'
        ? isInt64(value)
        : dataType === 'boolean'
          ? typeof value === 'boolean'
          : typeof value === 'string' && (dataType !== 'time' || Number.isFinite(Date.parse(value)))
  return fits ? { value, status } : { value: null, status: status >>> 31 === 1 ? status : TYPE_MISMATCH }
}

/** Which fields a frame holds: all for a key frame, those that changed for a delta frame. */
export function fieldsOf(part: Part, whole: boolean, onlyChanged: boolean): readonly number[] {
  const count = part.cells.length
  if (whole || !onlyChanged) return (everyOne[count] ??= Array.from({ length: count }, (_, i) => i))
  const out: number[] = []
  for (let i = 0; i < count; i++) if (part.changed[i] === 1) out.push(i)
  return out
}
/** By how many there are. */
const everyOne: number[][] = []

export function pubsubReading(equipment: string | null, m: PlanMember, value: Reading['value'], status: number, time: number | null): Reading {
  const quality = qualityOf(status)
  return { equipment, member: m.key, value, quality, reason: status === 0 ? '' : reasonOf(status), time }
}

/** Fields of a data set as its metadata tells them. */
export const fieldNames = (one: PlanEquipment) => one.members.map((m) => ({ name: m.key, type: BUILT_IN[m.dataType], description: m.label }))
