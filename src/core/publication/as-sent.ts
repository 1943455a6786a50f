import type { AsSent, PlanEquipment, TagPick } from '~/contract/publication'
import type { RowPick } from '~/contract/rows'
import { outsideName } from '../address/topic-template'
import { lineage } from '../equipment/hierarchy'
import { Resolver } from '../equipment/resolve'
import { placedTags } from './bare-tags'
import type { World } from './placed'
import { placedRows, withPlaces } from './placed-rows'

/** What goes out in the place of equipment. */
interface Instead {
  tags?: TagPick | undefined
  rows?: RowPick | undefined
}

const nothing = () => undefined

/** The first of these equipment as it would be sent, for what placeholders may name, and the keys of the members that all of them have. */
export function asSent(world: World, ids: readonly string[], { tags, rows }: Instead = {}): AsSent {
  if (rows) return of(placedRows(rows, withPlaces(world, rows), nothing).map((p) => p.plan))
  if (tags) return of(placedTags(tags, world, nothing, nothing).map((p) => p.plan))
  const resolver = new Resolver(world)
  const all = ids.flatMap((id) => world.equipment.get(id) ?? [])
  const filled = all.map((one) => resolver.leavesOf(one).filter((leaf) => leaf.fill))
  const [first, ...others] = filled.map((leaves) => new Set(leaves.map((leaf) => leaf.keys.join('.'))))
  const common = [...(first ?? [])].filter((key) => others.every((keys) => keys.has(key)))
  const one = all[0]
  if (!one) return { example: null, common }
  const members = filled[0]!.map((leaf): PlanEquipment['members'][number] => {
    const { dataType, unit, description, required, range, allowed } = leaf.member
    return { key: leaf.keys.join('.'), dataType, unit, fill: leaf.fill!, label: leaf.label, description, required, range, allowed, tag: '' }
  })
  const example = {
    id: one.id,
    name: outsideName(one),
    level: one.level,
    path: lineage(world.equipment, one.id).map(outsideName),
    className: (one.classId && world.classes.get(one.classId)?.name) || '',
    classVersion: 0,
    facts: one.facts,
    members,
  }
  return { example, common }
}

/** The first of these, and what each of them has. */
function of(all: readonly PlanEquipment[]): AsSent {
  const [first, ...others] = all.map((f) => new Set(f.members.map((m) => m.key)))
  return { example: all[0] ?? null, common: [...(first ?? [])].filter((key) => others.every((keys) => keys.has(key))) }
}
