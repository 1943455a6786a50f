// Equipment, cells and scopes for the tests of shapes.
import type { Plan, PlanEquipment, PlanMember } from '~/contract/publication'
import { type ShapeInput, ShapeSettings } from '~/contract/shape'
import type { DataType } from '~/contract/tag'
import { mqttAddress } from '../address/kinds/mqtt'
import type { Cell } from '../publication/cells/cell'
import type { Scalar } from '../value/deadband'
import { shapeOf } from './registry'
import type { Part, Scope } from './shape'

export const T0 = Date.UTC(2026, 2, 4, 14, 7, 12, 481)

export function member(key: string, dataType: DataType = 'number', part: Partial<PlanMember> = {}): PlanMember {
  const fill = { kind: 'tag' as const, handle: 1, width: 0, factor: 1, offset: 0 }
  return { key, dataType, unit: '', fill, label: key, description: '', required: false, range: null, allowed: null, tag: '', ...part }
}
export const kiln: PlanEquipment = {
  id: '0197c1d2-0000-7000-8000-000000000001',
  name: 'Tunnel Kiln 1',
  level: 'work centre',
  path: ['Varnmoor', 'Lower Pit', 'Firing', 'Tunnel Kiln 1'],
  className: 'Tunnel Kiln',
  classVersion: 3,
  facts: { serial: 'VK-7', year: 2019 },
  members: [
    member('temperature', 'number', { unit: '°C', range: { low: 0, high: 1200 } }),
    member('cars', 'integer'),
    member('burning', 'boolean'),
    member('curve', 'text'),
    member('since', 'time'),
    member('zones.0.temperature'),
    member('zones.0.order', 'text'),
    member('zones.1.temperature'),
    member('draught.inlet', 'number', { unit: 'Pa' }),
  ],
}
export const dryer: PlanEquipment = {
  ...kiln,
  id: '0197c1d2-0000-7000-8000-000000000002',
  name: 'Dryer, "6"',
  members: [member('damper'), member('product', 'text')],
}

export const cell = (value: Scalar, status = 0, time = T0, good: Scalar = null, goodTime = Number.NaN): Cell => ({
  value,
  status,
  time,
  goodValue: status >>> 30 === 0 ? value : good,
  goodTime: status >>> 30 === 0 ? time : goodTime,
  handles: [1],
  width: 0,
  problem: null,
  read: () => undefined,
})
export const part = (cells: Cell[], changed = cells.map(() => 1)): Part => ({ cells, changed: Uint8Array.from(changed) })
export const scope = (equipment: PlanEquipment[], extra: Partial<Scope> = {}): Scope => ({
  equipment,
  places: equipment.map((_, i) => i),
  publicationId: '0197c1d2-0000-7000-8000-0000000000aa',
  version: 4,
  host: { name: 'edge-3', version: '0.1.0', startedAt: T0 - 90_000 },
  ...extra,
})
export const settings = (input: ShapeInput) => ShapeSettings.parse(input)

/** What a publication with this shape would freeze of the equipment: messages as the shape groups them, on topics under `works`. */
export function planOf(input: ShapeInput, equipment: PlanEquipment[]): Plan {
  const shape = settings(input)
  const grouping = shapeOf(shape).grouping(shape as never)
  const address = { steering: [], key: '', headers: [['area', 'firing']] as [string, string][], responseTopic: '' }
  const messages: Plan['messages'] =
    grouping === 'publication'
      ? [{ equipment: equipment.map((_, i) => i), members: null, place: 'works/all', ...address }]
      : equipment.flatMap((one, i): Plan['messages'] =>
          grouping === 'equipment'
            ? [{ equipment: [i], members: null, place: `works/${i}`, ...address }]
            : one.members.map((m, k) => ({ equipment: [i], members: [k], place: `works/${i}/${m.key}`, ...address })),
        )
  return {
    publicationId: kiln.id,
    name: 'Works',
    number: 7,
    delivery: 1,
    destinationId: kiln.id,
    trigger: { kind: 'change' },
    shape,
    address: mqttAddress.fresh,
    reads: ['works/#'],
    contentType: shapeOf(shape).contentType(shape as never),
    equipment,
    messages,
  }
}
