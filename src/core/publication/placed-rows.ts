import type { Equipment } from '~/contract/equipment'
import type { PlanEquipment, PlanMember, PublicationDraft } from '~/contract/publication'
import type { PlanRows, RowPick } from '~/contract/rows'
import type { Step } from '~/contract/step'
import type { DataType } from '~/contract/tag'
import { shapeOf } from '../shape/registry'
import { ownKeys } from './bare-tags'
import type { Placed, Say, World } from './placed'
import { stepNames } from './steps/apply'

/** What of a row is put somewhere: a column, what tells the row from others, what became of it. */
export type RowPart = 'column' | 'name' | 'change'
export interface RowSlot {
  sourceId: string
  at: string
  part: RowPart
  column: string
  dataType: DataType
}

/** By which a handle of a row's value is found. */
export const rowPlace = ({ sourceId, at, part, column, dataType }: RowSlot): string => JSON.stringify([sourceId, at, part, column, dataType])

/** All that a publication of rows puts somewhere. */
export function rowSlots({ sourceId, at, columns, nameAs, changeAs }: RowPick): RowSlot[] {
  const slot = (part: RowPart, column: string, dataType: DataType): RowSlot => ({ sourceId, at, part, column, dataType })
  return [
    ...columns.map((c) => slot('column', c.name, c.dataType)),
    ...(nameAs === undefined ? [] : [slot('name', '', 'text')]),
    ...(changeAs === undefined ? [] : [slot('change', '', 'text')]),
  ]
}

/** A world in which a draft that was never saved has its places too: numbers that nothing else in it has. */
export function withPlaces(world: World, pick: RowPick): World {
  const rows = world.rows ?? { sources: new Map<string, string>(), handles: new Map<string, number>() }
  const missing = rowSlots(pick)
    .map(rowPlace)
    .filter((place) => !rows.handles.has(place))
  if (missing.length === 0) return world
  let last = 0
  const beyond = (handle: number) => {
    if (handle > last) last = handle
  }
  for (const t of world.tags.values()) beyond(t.handle)
  for (const handle of world.records.values()) beyond(handle)
  for (const handle of rows.handles.values()) beyond(handle)
  const handles = new Map(rows.handles)
  for (const place of missing) handles.set(place, ++last)
  return { ...world, rows: { ...rows, handles } }
}

const handleIn = (world: World, slot: RowSlot): number => world.rows?.handles.get(rowPlace(slot)) ?? -1

/** Where each value of a row is put. */
export function planRows(pick: RowPick, world: World): PlanRows {
  const { sourceId, at, key, columns, removed = false } = pick
  const handles = rowSlots(pick).map((slot) => ({ ...slot, handle: handleIn(world, slot) }))
  const of = (part: RowPart) => handles.find((h) => h.part === part)?.handle ?? null
  return {
    ...{ sourceId, source: world.rows?.sources.get(sourceId) ?? '', at, key, removed },
    columns: columns.map(({ name, dataType }, i) => ({ name, dataType, handle: handles[i]!.handle })),
    nameHandle: of('name'),
    changeHandle: of('change'),
  }
}

function members(pick: RowPick, world: World): PlanMember[] {
  const { columns, nameAs, changeAs } = pick
  const extra = [nameAs, changeAs].filter((key) => key !== undefined)
  const keys = ownKeys(
    columns.map((c) => c.name),
    new Set(extra),
  )
  const units = [...columns.map((c) => c.unit), ...extra.map(() => '')]
  const labels = [...columns.map((c) => c.name), ...extra]
  return rowSlots(pick).map((slot, i) => ({
    ...{ key: [...keys, ...extra][i]!, dataType: slot.dataType, unit: units[i]!, label: labels[i]!, description: '', tag: '' },
    ...{ required: false, range: null, allowed: null },
    fill: { kind: 'tag', handle: handleIn(world, slot), width: 0, factor: 1, offset: 0 },
  }))
}

/** Rows of a source as if each were the same equipment: its columns are its members. */
export function placedRows(pick: RowPick, world: World, stop: Say): Placed[] {
  const source = world.rows?.sources.get(pick.sourceId)
  if (source === undefined) {
    stop('what', 'The source of its rows no longer exists, or gives no rows', 'Choose a query or a JSON document among the sources')
    return []
  }
  if (pick.nameAs !== undefined && pick.nameAs === pick.changeAs)
    stop('what', `${pick.nameAs} cannot be both: what tells the row from others and what became of it`, 'Give one of them another name')
  const bare = { alias: '', facts: {}, externalIds: {} }
  const plan: PlanEquipment = {
    ...{ id: pick.sourceId, name: source, level: 'work unit', path: [source], className: '', classVersion: 0, facts: {} },
    members: members(pick, world),
  }
  const one: Equipment = {
    ...{ ...bare, id: pick.sourceId, name: source, parentId: null, level: 'work unit', classId: null, bindings: {}, counts: {}, version: 1 },
  }
  const lineage = [{ ...bare, name: source, level: 'work unit' as const }]
  return [{ one, plan, of: { lineage, className: null, members: plan.members.map((m) => m.key) } }]
}

/** Steps that go by what the same equipment said before: of rows it was another one. */
const ofOne: ReadonlySet<Step['kind']> = new Set<Step['kind']>(['repeats', 'smooth', 'bridge'])

/** What rows can't be: said by other triggers, in other shapes, through steps that look back. */
export function rowsWanted({ rows, trigger, pace, steps = [], shape }: PublicationDraft, stop: Say): void {
  if (trigger.kind === 'when' || trigger.kind === 'event')
    stop('when', 'Rows go out when they change, by the clock, by a schedule or by hand', 'Take On change, and keep what is wanted by a step', {
      mend: { label: 'On change', set: { trigger: { kind: 'change' } } },
    })
  if (pace?.mostS !== undefined || pace?.leastS !== undefined)
    stop('when', 'How often rows can go out is how often their source is read', 'Set the update rate of the source', {
      mend: { label: 'Without a pace', set: { pace: pace.first === undefined ? undefined : { first: pace.first } } },
    })
  if (rows!.changeAs !== undefined && trigger.kind !== 'change')
    stop('when', 'What became of a row since last time is known only where rows go out on change', 'Take On change, or leave that member out')
  if (trigger.kind === 'change' && trigger.deadband !== undefined)
    stop('when', 'A row has changed when anything in it is another', 'Take no deadband', {
      mend: { label: "Each tag's own", set: { trigger: { kind: 'change' } } },
    })
  for (const [step, { kind }] of steps.entries())
    if (ofOne.has(kind))
      stop('steps', `Step ${step + 1}, ${stepNames[kind]}, goes by what was said before, which was another row`, 'Leave the step out', { step })
  const { grouping } = shapeOf(shape)
  if (grouping(shape as never) !== 'equipment' || shape.kind === 'sparkplug-b' || shape.kind === 'device-facts')
    stop('shape', 'A row is one message', 'Take a shape with a message for each equipment')
}
