import type { EquipmentInput, Member, MemberInput } from '~/contract/equipment'
import { newId } from '~/contract/id'
import { matchMembers } from '~/core/equipment/matching'
import { addClass } from '~/store/class'
import type { Db } from '~/store/database'
import { editEquipment } from '~/store/equipment-edit'
import { listSources } from '~/store/source'
import { listTags } from '~/store/tag'

/**
 * Relative humidity from dry and wet bulb, %: the psychrometer equation with its coefficient for an aspirated instrument over
 * water, and the Magnus formula for saturation vapour pressure, both as in the Guide to Instruments and Methods of Observation
 * (WMO-No. 8, 2018, volume I, 4.2 and annex 4.B), at 1013.25 hPa.
 */
const relativeHumidity = `round(clamp(
  100 * (6.112 * exp(17.62 * wetBulb / (243.12 + wetBulb))
    - 0.000653 * (1 + 0.000944 * wetBulb) * 1013.25 * (dryBulb - wetBulb))
  / (6.112 * exp(17.62 * dryBulb / (243.12 + dryBulb))), 0, 100), 1)`

const zoneMembers: MemberInput[] = [
  { key: 'temperature', label: 'Temperature', unit: '°C', range: { low: 0, high: 1250 } },
  { key: 'setpoint', label: 'Setpoint', unit: '°C', range: { low: 0, high: 1250 } },
  { key: 'gasFlow', label: 'Gas flow', unit: 'm³/h' },
  { key: 'burner', label: 'Burner', dataType: 'boolean' },
]
const kilnMembers: MemberInput[] = [
  { key: 'draught', label: 'Draught', unit: 'Pa', description: 'Below the atmosphere' },
  { key: 'oxygen', label: 'Oxygen', unit: '%' },
  { key: 'carNumber', label: 'Car number', dataType: 'integer' },
  { key: 'pushInterval', label: 'Push interval', unit: 's' },
  { key: 'firingCurve', label: 'Firing curve', dataType: 'text' },
]
const dryerMembers: MemberInput[] = [
  { id: 'drybulb', key: 'dryBulb', label: 'Dry bulb', unit: '°C', range: { low: 0, high: 130 } },
  { id: 'wetbulb', key: 'wetBulb', label: 'Wet bulb', unit: '°C', range: { low: 0, high: 100 } },
  {
    id: 'humidity',
    key: 'relativeHumidity',
    label: 'Relative humidity',
    unit: '%',
    range: { low: 0, high: 100 },
    description: 'From dry and wet bulb',
    calculation: { text: relativeHumidity, inputs: { dryBulb: { kind: 'member', path: 'drybulb' }, wetBulb: { kind: 'member', path: 'wetbulb' } } },
  },
  { id: 'fanspeed', key: 'fanSpeed', label: 'Fan speed', unit: '%' },
  { id: 'damper', key: 'damper', label: 'Damper', unit: '%' },
  { id: 'cyclehour', key: 'cycleHour', label: 'Cycle hour', unit: 'h' },
  {
    id: 'cyclestate',
    key: 'cycleState',
    label: 'Cycle state',
    dataType: 'integer',
    description: '0 idle, 1 loading, 2 drying, 3 cooling, 4 unloading',
  },
  { id: 'product', key: 'product', label: 'Product', dataType: 'text', required: false, description: 'Of the works order in progress' },
]

/** The hierarchy of the works, its classes, and the equipment that the demo begins with. */
export async function seedPlant(db: Db): Promise<{ kiln: string; zones: string[] }> {
  const tags = await listTags(db)
  const orders = (await listSources(db)).find((s) => s.name === 'Works orders')!
  const zoneClass = await addClass(db, { name: 'Kiln Zone', members: zoneMembers }, 'Ines Rook')
  const kilnClass = await addClass(db, { name: 'Tunnel Kiln', members: kilnMembers }, 'Ines Rook')
  const dryerClass = await addClass(db, { name: 'Dryer Chamber', members: dryerMembers }, 'Ines Rook')
  const bind = (name: string, members: readonly Member[]): EquipmentInput['bindings'] =>
    Object.fromEntries([...matchMembers(name, members, tags)].map(([id, tagId]) => [id, { kind: 'tag' as const, tagId }]))

  const [varnmoor, pit, drying, firing, kiln] = [newId(), newId(), newId(), newId(), newId()]
  const zones = Array.from({ length: 12 }, () => newId())
  await editEquipment(db, {
    add: [
      { id: varnmoor, name: 'Varnmoor', parentId: null, level: 'enterprise' },
      { id: pit, name: 'Lower Pit', parentId: varnmoor, level: 'site' },
      { id: drying, name: 'Drying', parentId: pit, level: 'area' },
      { id: firing, name: 'Firing', parentId: pit, level: 'area' },
      {
        id: kiln,
        name: 'Tunnel Kiln 1',
        parentId: firing,
        level: 'work centre',
        classId: kilnClass.id,
        facts: { maker: 'Orrin Kilns', 'serial number': 'OK-1187', commissioned: '2011-05-02' },
        bindings: bind('Tunnel Kiln 1', kilnClass.members),
      },
      ...zones.map((id, z) => ({
        id,
        name: `Zone ${z + 1}`,
        parentId: kiln,
        level: 'work unit' as const,
        classId: zoneClass.id,
        bindings: bind(`Zone ${z + 1}`, zoneClass.members),
      })),
      ...[1, 2, 3, 4, 5, 6].map((n) => ({
        name: `Dryer Chamber ${n}`,
        parentId: drying,
        level: 'work centre' as const,
        classId: dryerClass.id,
        facts: { 'serial number': `VC-04${String(10 + n)}`, line: 'packing' },
        bindings: {
          ...bind(
            `Dryer ${n}`,
            dryerClass.members.filter((m) => !m.calculation),
          ),
          product: { kind: 'record' as const, sourceId: orders.id, row: '{fact.line}', column: 'product' },
        },
      })),
    ],
  })
  return { kiln, zones }
}
