import type { TopicRule } from '~/contract/addresses/text'
import type { Destination } from '~/contract/destination'
import type { Finding, Plan, PlanEquipment, PlanMessage, PublicationDraft, Resolved } from '~/contract/publication'
import { kindOf } from '../address/kinds'
import { some } from '../address/some'
import { type AddressOf, placeText, resolveTemplate, textProblems } from '../address/topic-template'
import { nodeOf, shapeOf } from '../shape/registry'
import { deviceId, sparkplugTopicOf } from '../shape/sparkplug-metric'
import { beyond } from './beyond'
import { withOwnSteps } from './clauses'
import { conditionOf, type Known } from './condition'
import { type Placed, placedOf, type Say, type World } from './placed'
import { planRows, rowsWanted } from './placed-rows'
import { asPrescribed } from './prescribed'
import { speakingOf } from './speaking'
import { gated, stepped } from './steps/stepped'
import { Schedule } from './timing/schedule'

export type PlanBody = Pick<Plan, 'reads' | 'equipment' | 'messages' | 'contentType' | 'tables' | 'lookups' | 'stages' | 'speaking' | 'feed'>

/** Another publication that is live, to be compared with. */
export type OtherPlan = Pick<Plan, 'publicationId' | 'name' | 'destinationId' | 'messages' | 'shape'>

export interface Compiled {
  body: PlanBody
  findings: Finding[]
  converted: [string, string][]
  /** The equipment before the steps, and which of it each of the body's was. */
  source: PlanEquipment[]
  from: number[]
}

export interface CompileOptions {
  /** Id of the publication itself, which is not its own rival. */
  publicationId?: string
  others?: readonly OtherPlan[]
  /** Where it would go; absent: nobody knows yet. */
  destination?: Pick<Destination, 'name' | 'kind' | 'settings'>
}

/**
 * Resolves a publication against the present model: every address filled as far as can be, every member bound to a tag's
 * handle. What `stops` must be mended before a go-live; what `warns` may be lived with.
 */
export function compile(wanted: PublicationDraft, world: World, options: CompileOptions = {}): Compiled {
  const findings: Finding[] = []
  const saying =
    (severity: Finding['severity']): Say =>
    (section, message, hint, more) =>
      findings.push({ severity, section, message, hint, ...more })
  const [stop, warn] = [saying('stops'), saying('warns')]
  const draft = withOwnSteps(asPrescribed(wanted))
  const shape = shapeOf(draft.shape)
  const kind = kindOf(draft.address)
  const own = kind.texts(draft.address)
  const [noun] = kind.nouns

  if (!shape.fixed && own.place === '') stop('address', `Which ${noun}?`, 'Build it from the placeholders')
  if (!shape.fixed && own.place !== '') for (const p of kind.placeProblems(own.place)) stop('address', p.message, `Correct the ${noun} template`)
  for (const [what, template] of texts(draft))
    for (const p of textProblems(template)) stop('address', `${what}: ${p.message}`, `Correct the ${what.toLowerCase()}`)

  const source = placedOf(draft, world, stop, warn)
  const { placed, gatesOf, tables, lookups, stages } = stepped(draft, source, world, stop)
  const equipment = placed.map((p) => p.plan)
  if (draft.rows) rowsWanted(draft, stop)
  for (const problem of shape.problems?.(draft.shape as never, equipment) ?? []) stop('shape', problem, 'Change the shape, or what is sent')
  for (const doubt of shape.doubts?.(draft.shape as never, equipment) ?? []) warn('shape', doubt, 'Give one of them another name or alias')
  reserved(shape.reserved(draft.shape as never), equipment, stop)

  const { messages, converted } = address(draft, placed, stop)
  const triggering = source.map((p) => p.plan)
  trigger(draft, messages, triggering, (m) => triggering[placed[m.equipment[0]!]!.from]!, stop, warn)
  const speaking = draft.trigger.kind === 'event' ? speakingOf(draft.trigger, triggering, world, stop, warn) : null
  gated(draft, messages, gatesOf, stop)
  checkPlaces(draft, messages, equipment, options, stop, warn)
  findings.push(...kind.safety(draft.address, draft.shape), ...beyond(draft, options.destination ?? null))
  const reads = kind.reads(
    messages.map((m) => m.place),
    shape.suffixes?.(draft.shape as never) ?? [],
    draft.address,
  )
  const contentType = contentTypeOf(draft)
  return {
    body: {
      ...{ reads, equipment, messages, contentType },
      ...(tables.length > 0 && { tables }),
      ...(lookups.length > 0 && { lookups }),
      ...(stages.length > 0 && { stages }),
      ...(speaking && { speaking }),
      ...(draft.rows && { feed: planRows(draft.rows, world) }),
    },
    findings,
    converted,
    source: triggering,
    from: placed.map((p) => p.from),
  }
}

const contentTypeOf = ({ address, shape }: PublicationDraft) =>
  ('contentType' in address && address.contentType) || shapeOf(shape).contentType(shape as never)

/** Members whose names the message needs for itself. */
function reserved(names: readonly string[], equipment: readonly PlanEquipment[], stop: Say): void {
  for (const name of names) {
    const whose = equipment.filter((e) => e.members.some((m) => m.key.split('.')[0] === name))
    if (whose.length > 0)
      stop(
        'shape',
        `${some(whose.map((e) => e.name))} has a member called ${name}, as the message has a field of its own`,
        'Rename the member, or take another shape',
      )
  }
}

function texts({ address }: PublicationDraft): [string, string][] {
  const { key, responseTopic, headers } = kindOf(address).texts(address)
  return [['Key', key], ['Response topic', responseTopic], ...headers.map((h): [string, string] => [`Header ${h.name}`, h.value])]
}

/** Messages and where each goes. */
function address(draft: PublicationDraft, placed: readonly Placed[], stop: Say): { messages: PlanMessage[]; converted: [string, string][] } {
  const messages: PlanMessage[] = []
  const converted = new Map<string, string>()
  const unfilled = new Map<string, string[]>()
  const settings = draft.shape
  const grouping = shapeOf(settings).grouping(settings as never)
  const kind = kindOf(draft.address)
  const own = kind.texts(draft.address)
  const add = (of: AddressOf, who: string, equipment: number[], members: number[] | null, first: PlanEquipment | undefined) => {
    const steering = new Set<number>()
    const fill = (template: string, rule: TopicRule | null): Resolved => {
      const r = resolveTemplate(template, of, rule, kind.levels)
      if (r.missing) unfilled.set(r.missing, [...(unfilled.get(r.missing) ?? []), who])
      for (const [from, to] of r.converted) converted.set(from, to)
      for (const s of r.steering) steering.add(s)
      return r.resolved
    }
    const place =
      settings.kind === 'sparkplug-b' ? sparkplugTopicOf(settings, 'DDATA', deviceId(first!)) : own.place === '' ? '' : fill(own.place, own.rule)
    const key = fill(own.key, null)
    const headers = own.headers.map((h): [string, Resolved] => [h.name, fill(h.value, null)])
    const responseTopic = fill(own.responseTopic, own.rule)
    const steers = [...steering]
    const all = first?.members.map((_, i) => i) ?? []
    const kept = draft.steersOnly && steers.length > 0 ? (members ?? all).filter((i) => !steering.has(i)) : members
    // A member that has a message of its own is not left out of it.
    messages.push({ equipment, members: kept && kept.length === 0 ? members : kept, steering: steers, place, key, headers, responseTopic })
  }
  if (grouping === 'publication') {
    if (placed.length > 0) {
      const common = placed[0]!.of.lineage.filter((e, i) => placed.every((p) => p.of.lineage[i] === e))
      const classes = new Set(placed.map((p) => p.of.className))
      const self = { name: draft.name, level: 'work unit' as const, alias: '', facts: {}, externalIds: {} }
      // The name is that of the publication: it is no one equipment's message.
      const of: AddressOf = {
        lineage: [...common.filter((e) => e !== placed[0]!.one), self],
        className: classes.size === 1 ? [...classes][0]! : null,
      }
      add(
        of,
        draft.name,
        placed.map((_, i) => i),
        null,
        placed[0]!.plan,
      )
    }
  } else
    placed.forEach((p, i) => {
      if (grouping === 'equipment') add(p.of, p.one.name, [i], null, p.plan)
      else
        for (const [k, m] of p.plan.members.entries())
          add({ ...p.of, member: m.key, tag: m.tag || m.key }, `${p.one.name} ${m.label}`, [i], [k], p.plan)
    })
  for (const [key, names] of unfilled)
    stop(
      'address',
      `{${key}} means nothing for ${some(names)}`,
      key.startsWith('value.')
        ? 'Name a member that is filled, and one message for each equipment'
        : 'Use another placeholder, add default(), or place the equipment under that level',
    )
  return { messages, converted: [...converted].slice(0, 50) }
}

/** What makes messages speak: conditions resolved for each, and a deadband that means nothing for some. */
function trigger(
  draft: PublicationDraft,
  messages: PlanMessage[],
  equipment: readonly PlanEquipment[],
  about: (m: PlanMessage) => PlanEquipment,
  stop: Say,
  warn: Say,
): void {
  const { trigger: t } = draft
  if (t.kind === 'change' && t.deadband?.kind === 'range') {
    const numbers = (e: PlanEquipment) => e.members.filter((m) => (m.dataType === 'number' || m.dataType === 'integer') && m.range === null)
    const without = equipment.flatMap((e) => numbers(e).map((m) => `${e.name} ${m.label}`))
    if (without.length > 0) warn('when', `Without a range, so that every change counts: ${some(without)}`, 'Give the member its range in the class')
  }
  if (t.kind === 'schedule')
    try {
      Schedule.of(t.cron, t.zone)
    } catch (e) {
      stop('when', `The schedule: ${e instanceof Error ? e.message : String(e)}`, 'Correct it; its next times show when it is right')
    }
  if (t.kind !== 'when') return
  const known: Known = new Map()
  const wrong = new Map<string, string[]>()
  for (const m of messages) {
    if (m.equipment.length > 1) {
      stop('when', 'One message about many equipment cannot wait for a condition of each', 'Take a shape with a message for each equipment')
      return
    }
    const one = about(m)
    const found = conditionOf(t, one.members, known)
    if ('problem' in found) wrong.set(found.problem, [...(wrong.get(found.problem) ?? []), one.name])
    else m.condition = found
  }
  for (const [problem, names] of wrong)
    stop('when', `${some(names)}: ${problem}`, 'Correct the condition; members stand in it by their keys, with _ for dots and spaces')
}

/** Places against what the kind takes, each other, and those of other publications. */
function checkPlaces(
  draft: PublicationDraft,
  messages: readonly PlanMessage[],
  equipment: readonly PlanEquipment[],
  options: CompileOptions,
  stop: Say,
  warn: Say,
): void {
  const kind = kindOf(draft.address)
  const [noun] = kind.nouns
  const { saysWhose = false } = shapeOf(draft.shape)
  const names = (m: PlanMessage) => {
    const one = equipment[m.equipment[0] ?? 0]
    return m.members?.length === 1 ? `${one?.name} ${one?.members[m.members[0]!]?.label}` : (one?.name ?? '')
  }
  const owners = new Map<string, PlanMessage>()
  const fixed: string[] = []
  let told = 0
  for (const m of messages) {
    const keys = equipment[m.equipment[0] ?? 0]?.members.map((x) => x.key)
    const place = placeText(m.place, keys)
    if (place === '') continue
    if (typeof m.place === 'string') fixed.push(place)
    const apart = kind.apart(m, (r) => placeText(r, keys))
    const twin = owners.get(apart)
    if (twin && !saysWhose) {
      const bare = draft.shape.kind === 'value'
      if (told++ < 3)
        (bare ? stop : warn)(
          'address',
          `${names(twin)} and ${names(m)} share the ${noun} ${apart}`,
          m.members?.length === 1 && bare
            ? 'Add {member} or {tag} so that each has its own'
            : 'Add {unit}, {name} or {member} so that each has its own',
        )
    } else owners.set(apart, m)
  }
  for (const f of kind.placeFindings(fixed)) (f.severity === 'stops' ? stop : warn)('address', f.message, f.hint)
  for (const other of options.others ?? []) {
    if (other.publicationId === options.publicationId || other.destinationId !== draft.destinationId) continue
    if (nodeOf(draft.shape) !== '' && nodeOf(draft.shape) === nodeOf(other.shape))
      stop(
        'shape',
        `${other.name} is the edge node ${nodeOf(draft.shape)} on this destination already`,
        'Name this node otherwise, or add its equipment there',
      )
    const publisher = publisherOf(draft.shape)
    if (publisher !== null && other.shape.kind === draft.shape.kind && publisherOf(other.shape) === publisher)
      stop(
        'shape',
        `${other.name} has the publisher id ${publisher} on this destination too: receivers take its data sets for these`,
        'Give this publication a publisher id of its own',
      )
    const text = (r: Resolved) => placeText(r)
    const theirs = new Set(other.messages.map((m) => kind.apart(m, text)))
    const shared =
      messages.find((m) => typeof m.place === 'string' && m.place !== '' && theirs.has(kind.apart(m, text)))?.place ??
      fixed.find((p) => other.messages.some((m) => typeof m.place !== 'string' && kind.mayBecome(m.place, p)))
    if (typeof shared === 'string' && !(saysWhose && shapeOf(other.shape).saysWhose))
      warn('address', `${other.name} writes to ${shared} too`, 'Receivers cannot tell the two apart: change one address')
  }
  const steering = new Set(messages.flatMap((m) => m.steering.map((i) => equipment[m.equipment[0]!]!.members[i]!.key)))
  if (steering.size > 0 && !draft.steersOnly && shapeOf(draft.shape).grouping(draft.shape as never) === 'equipment')
    warn(
      'address',
      `${some([...steering])} steers the address and is in the payload too`,
      'Leave it out of the payload, unless receivers want it there',
      { mend: { label: 'Leave it out of the payload', set: { steersOnly: true } } },
    )
}

/** Under which publisher id data sets go out, for shapes that have one (OPC 10000-14 6.2.7.1); else null. */
export const publisherOf = (shape: PublicationDraft['shape']): string | null => ('publisherId' in shape ? String(shape.publisherId) : null)
