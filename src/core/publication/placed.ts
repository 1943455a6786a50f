import type { Equipment } from '~/contract/equipment'
import type { Finding, PlanEquipment, PlanMember, PublicationDraft } from '~/contract/publication'
import { some } from '../address/some'
import { type AddressOf, outsideName } from '../address/topic-template'
import { lineage } from '../equipment/hierarchy'
import { handlesOf, type Model, Resolver } from '../equipment/resolve'
import { isOf, matching } from '../equipment/rule'
import { placedTags } from './bare-tags'
import { placedRows } from './placed-rows'

/** Sources of documents, of which rows can go out. */
export interface RowWorld {
  /** Their names, by id. */
  sources: ReadonlyMap<string, string>
  /** Where each value of a row is put, by `rowPlace`. */
  handles: ReadonlyMap<string, number>
}

export interface World extends Model {
  rows?: RowWorld
  /** Ids of sources whose values are computed, not measured. */
  madeUpSources: ReadonlySet<string>
}

export type Say = (section: Finding['section'], message: string, hint: string, more?: Pick<Finding, 'step' | 'mend'>) => void

/** As many go out in one publication. */
const EQUIPMENT_MOST = 10_000

/** Nothing in the plan for the payload, everything for the address. */
export interface Placed {
  one: Equipment
  plan: PlanEquipment
  of: AddressOf
}

/** Of the equipment that is chosen what a clause is for. */
function ofItsClass({ onlyClassId: only }: PublicationDraft, chosen: string[], { equipment, classes }: World, stop: Say): string[] {
  if (only === undefined) return chosen
  const ids = chosen.filter((id) => isOf(classes, equipment.get(id)?.classId ?? null, only))
  if (chosen.length > 0 && ids.length === 0)
    stop('what', `None of the equipment is of the class ${classes.get(only)?.name ?? 'that is no more'}`, 'Choose another class under Only')
  return ids
}

/** Equipment with what fills its members. */
export function placedOf(draft: PublicationDraft, world: World, stop: Say, warn: Say): Placed[] {
  if (draft.rows) return placedRows(draft.rows, world, stop)
  if (draft.tags) return placedTags(draft.tags, world, stop, warn)
  const out: Placed[] = []
  const unbound: string[] = []
  const faulty: string[] = []
  const doubtful: string[] = []
  const madeUp: string[] = []
  const factsOnly = draft.shape.kind === 'device-facts'
  const resolver = new Resolver(world)
  const madeUpHandles = new Set<number>()
  const tagNames = new Map<number, string>()
  for (const t of world.tags.values()) {
    tagNames.set(t.handle, t.name)
    if (t.simulated || world.madeUpSources.has(t.sourceId)) madeUpHandles.add(t.handle)
  }
  const chosen = draft.rule ? matching(draft.rule, world.equipment, world.classes) : draft.equipmentIds
  const ids = ofItsClass(draft, chosen, world, stop)
  if (draft.rule && chosen.length === 0) stop('what', 'No equipment is as the rule says', 'Change the rule, or choose equipment by hand')
  if (ids.length > EQUIPMENT_MOST) stop('what', `${ids.length} equipment are as the rule says, ${EQUIPMENT_MOST} can go out`, 'Narrow the rule')
  // By a rule the others go out without what has nothing to say yet.
  const lacking: Say = draft.rule ? warn : stop
  for (const id of ids.slice(0, EQUIPMENT_MOST)) {
    const one = world.equipment.get(id)
    if (!one) {
      stop('what', 'An equipment chosen here no longer exists', 'Choose the equipment again')
      continue
    }
    const cls = one.classId ? world.classes.get(one.classId) : undefined
    if (!factsOnly && (!cls || resolver.leavesOf(one).length === 0)) {
      lacking('what', `${one.name} has no members to send`, 'Give it a class with members, or leave it out')
      continue
    }
    const members: PlanMember[] = []
    for (const leaf of factsOnly ? [] : resolver.leavesOf(one)) {
      const name = `${one.name} ${leaf.label}`
      if (!leaf.fill) {
        if (leaf.problem && leaf.problem.kind !== 'unbound') faulty.push(`${name} (${leaf.problem.message})`)
        else if (leaf.member.required) unbound.push(name)
        continue
      }
      if (leaf.problem) doubtful.push(`${name} (${leaf.problem.message})`)
      const handles = [...handlesOf(leaf.fill)]
      if (handles.some((h) => madeUpHandles.has(h))) madeUp.push(name)
      const { dataType, unit, description, required, range, allowed } = leaf.member
      const tag = leaf.fill.kind === 'tag' ? (tagNames.get(leaf.fill.handle) ?? '') : ''
      members.push({ key: leaf.keys.join('.'), dataType, unit, fill: leaf.fill, label: leaf.label, description, required, range, allowed, tag })
    }
    if (!factsOnly && members.every((m) => handlesOf(m.fill).size === 0)) {
      lacking('what', `${one.name} has no member that a tag fills`, 'Bind its members under Equipment')
      continue
    }
    const line = lineage(world.equipment, id)
    out.push({
      one,
      plan: {
        id,
        name: outsideName(one),
        level: one.level,
        path: line.map(outsideName),
        className: cls?.name ?? '',
        classVersion: cls?.version ?? 0,
        facts: one.facts,
        members,
      },
      of: { lineage: line, className: cls?.name ?? null, members: members.map((m) => m.key) },
    })
  }
  if (draft.rule && ids.length > 0 && out.length === 0)
    stop('what', 'No equipment that is as the rule says has anything to send', 'Bind its members under Equipment, or change the rule')
  if (unbound.length > 0)
    warn('what', `Empty, so left out: ${some(unbound)}`, 'Bind them under Equipment', { mend: { label: 'Open equipment', href: '/equipment' } })
  if (faulty.length > 0)
    warn('what', `Without a value, so left out: ${some(faulty)}`, 'Mend them under Equipment', {
      mend: { label: 'Open equipment', href: '/equipment' },
    })
  if (doubtful.length > 0) warn('what', `Does not fit its member: ${some(doubtful)}`, 'Bind another tag, or change the class')
  if (madeUp.length > 0)
    warn('what', `Simulated, not measured: ${some(madeUp)}`, 'Put the tags back on their device before receivers rely on them', {
      mend: { label: 'Open tags', href: '/tags' },
    })
  return out
}
