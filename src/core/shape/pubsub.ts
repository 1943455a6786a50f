import type { PlanEquipment, PlanMember } from '~/contract/publication'
import type { DataType } from '~/contract/tag'
import { digest } from '../delivery/digest'
import type { Cell } from '../publication/cells/cell'
import type { Scalar } from '../value/deadband'
import { qualityOf, reasonOf } from '../value/quality'
import { isInt64 } from '../value/whole'
import type { Part, Reading, Scope } from './shape'

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

/** A value as its built-in type takes it, or null, with the status that then holds. A bad one is none. */
export function fieldOf(cell: Cell, dataType: DataType): { value: Scalar; status: number } {
  const { value, status } = cell
  if (value === null || status >>> 31 === 1) return { value: null, status }
  const fits =
    dataType === 'number'
      ? typeof value === 'number'
      : dataType === 'integer'
        ? isInt64(value)
        : dataType === 'boolean'
          ? typeof value === 'boolean'
          : typeof value === 'string' && (dataType !== 'time' || Number.isFinite(Date.parse(value)))
  return fits ? { value, status } : { value: null, status: TYPE_MISMATCH }
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

/** Data set writers are numbered by the place of their equipment, from 1: 16 bits (OPC 10000-14 6.2.4.1). */
export const WRITERS_MAX = 65_535

/** What is wrong with so many. */
export const writerProblems = (equipment: readonly PlanEquipment[]): string[] =>
  equipment.length > WRITERS_MAX ? [`At most ${WRITERS_MAX} equipment have a data set writer id: part the publication`] : []

/** Metadata stands beside the data; of a message about several data sets each has its own. */
export const metadataSuffix = (scope: Scope, e: number): string => (scope.equipment.length === 1 ? '/metadata' : `/metadata/${scope.places[e]! + 1}`)
export const metadataSuffixes = (s: { metadata: boolean; per: string }): string[] =>
  s.metadata ? [s.per === 'publication' ? '/metadata/#' : '/metadata'] : []

/**
 * Identity of a field over all versions (OPC 10000-14 6.2.3.2.4: a Guid that stays when the field is renamed or moved): from
 * the identity of its equipment and its key, in the form of a version 8 UUID (RFC 9562 5.8).
 */
export function fieldId(one: Pick<PlanEquipment, 'id'>, key: string): string {
  const half = (salt: number) =>
    digest(new TextEncoder().encode(`${salt} ${one.id} ${key}`))
      .toString(16)
      .padStart(14, '0')
  const hex = half(1) + half(2) + half(3).slice(-4)
  const variant = (8 + (Number.parseInt(hex[16]!, 16) & 3)).toString(16)
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-8${hex.slice(13, 16)}-${variant}${hex.slice(17, 20)}-${hex.slice(20, 32)}`
}

/** Fields of a data set as its metadata tells them. */
export const fieldNames = (one: PlanEquipment) =>
  one.members.map((m) => ({ id: fieldId(one, m.key), name: m.key, type: BUILT_IN[m.dataType], description: m.label }))
