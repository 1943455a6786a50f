import type { Finding, Plan, PlanMember, PublicationDraft } from '~/contract/publication'
import { widen } from '../address/topic-filter'
import { fillTemplate, templateProblems } from '../address/topic-template'
import { lineage } from '../equipment/hierarchy'
import { handlesOf, type Model, Resolver } from '../equipment/resolve'

export interface World extends Model {
  /** Ids of sources whose values are computed, not measured. */
  madeUpSources: ReadonlySet<string>
}

export type PlanBody = Pick<Plan, 'filter' | 'equipment'>

/**
 * Resolves a publication against the present model: every topic filled, every member bound to a tag's handle. What
 * `stops` must be mended before a go-live; what `warns` may be lived with.
 */
export function compile(draft: PublicationDraft, world: World): { body: PlanBody; findings: Finding[] } {
  const findings: Finding[] = []
  const stop = (section: Finding['section'], message: string, hint: string) => findings.push({ severity: 'stops', section, message, hint })
  const warn = (section: Finding['section'], message: string, hint: string) => findings.push({ severity: 'warns', section, message, hint })

  for (const p of templateProblems(draft.topic)) stop('address', p.message, 'Correct the topic template')

  const equipment: Plan['equipment'] = []
  const byTopic = new Map<string, string>()
  const unfilled = new Map<string, string[]>()
  const unbound: string[] = []
  const faulty: string[] = []
  const doubtful: string[] = []
  const madeUp: string[] = []
  const resolver = new Resolver(world)
  const madeUpHandles = new Set<number>()
  for (const t of world.tags.values()) if (t.simulated || world.madeUpSources.has(t.sourceId)) madeUpHandles.add(t.handle)
  for (const id of draft.equipmentIds) {
    const one = world.equipment.get(id)
    if (!one) {
      stop('what', 'An equipment chosen here no longer exists', 'Choose the equipment again')
      continue
    }
    const cls = one.classId ? world.classes.get(one.classId) : undefined
    if (!cls || resolver.leavesOf(one).length === 0) {
      stop('what', `${one.name} has no members to send`, 'Give it a class with members, or leave it out')
      continue
    }
    const filled = fillTemplate(draft.topic, lineage(world.equipment, id), cls.name)
    if ('missing' in filled) {
      unfilled.set(filled.missing, [...(unfilled.get(filled.missing) ?? []), one.name])
      continue
    }
    const twin = byTopic.get(filled.topic)
    if (twin !== undefined)
      warn('address', `${twin} and ${one.name} share the topic ${filled.topic}`, 'Add {unit} or {name} so that each has its own')
    byTopic.set(filled.topic, one.name)
    if (new TextEncoder().encode(filled.topic).length > 65_535)
      stop('address', `The topic of ${one.name} is longer than 65,535 octets`, 'Shorten the template')
    const members: PlanMember[] = []
    for (const leaf of resolver.leavesOf(one)) {
      const name = `${one.name} ${leaf.label}`
      if (!leaf.fill) {
        if (leaf.problem && leaf.problem.kind !== 'unbound') faulty.push(`${name} (${leaf.problem.message})`)
        else unbound.push(name)
        continue
      }
      if (leaf.problem) doubtful.push(`${name} (${leaf.problem.message})`)
      const handles = [...handlesOf(leaf.fill)]
      if (handles.some((h) => madeUpHandles.has(h))) madeUp.push(name)
      members.push({ key: leaf.keys.join('.'), dataType: leaf.member.dataType, unit: leaf.member.unit, fill: leaf.fill })
    }
    if (members.every((m) => handlesOf(m.fill).size === 0)) {
      stop('what', `${one.name} has no member bound to a tag`, 'Bind its members under Equipment')
      continue
    }
    equipment.push({ id, name: one.name, level: one.level, topic: filled.topic, members })
  }
  for (const [key, names] of unfilled)
    stop('address', `{${key}} means nothing for ${some(names)}`, 'Use another placeholder or place the equipment under that level')
  if (unbound.length > 0) warn('what', `Not bound, so left out: ${some(unbound)}`, 'Bind them under Equipment')
  if (faulty.length > 0) warn('what', `Without a value, so left out: ${some(faulty)}`, 'Mend them under Equipment')
  if (doubtful.length > 0) warn('what', `Does not fit its member: ${some(doubtful)}`, 'Bind another tag, or change the class')
  if (madeUp.length > 0) warn('what', `Simulated, not measured: ${some(madeUp)}`, 'Put the tags back on their device before receivers rely on them')
  if (draft.retain && draft.qos === 0)
    warn('safely', 'A retained message at QoS 0 may be lost on its way', 'QoS 1 makes sure that the last value is the one kept')
  if (draft.qos === 0) warn('safely', 'At QoS 0 nothing is sent again after a lost link', 'Choose QoS 1 to send at least once')
  const filter = equipment.map((e) => e.topic).reduce((a, b) => (a === '' ? b : widen(a, b)), '')
  return { body: { filter, equipment }, findings }
}

function some(names: readonly string[]): string {
  return names.length <= 3 ? names.join(', ') : `${names.slice(0, 3).join(', ')} and ${names.length - 3} more`
}
