import type { Binding, Equipment, Expression, ExpressionInput, Member } from '~/contract/equipment'
import type { Fill, FillInput } from '~/contract/fill'
import type { DataType, Tag } from '~/contract/tag'
import { compileExpression } from '../expression/compile'
import { type Conversion, chained, conversion, same } from '../value/convert'
import { deadbandWidth, type Scalar } from '../value/deadband'
import { own } from '../value/own'
import { unitOf } from '../value/unit'
import { byName } from './hierarchy'
import { type Classes, isA, membersOf } from './members'

/** The model as members are resolved against it. */
export interface Model {
  equipment: ReadonlyMap<string, Equipment>
  classes: Classes
  tags: ReadonlyMap<string, Tag>
  /** Handles of record columns, by `recordKey`. */
  records: ReadonlyMap<string, number>
}

export const recordKey = (sourceId: string, row: string, column: string, dataType: DataType) => `${sourceId}\n${row}\n${column}\n${dataType}`

/** Why a member is not as it should be. `stops`: there is no value at all; others are sent all the same. */
export interface MemberProblem {
  kind: 'unbound' | 'broken' | 'type' | 'unit' | 'cycle'
  stops: boolean
  message: string
}

/** One value of an equipment: where it stands in its payload, and what fills it. */
export interface Leaf {
  /** By ids, within `owner`. */
  path: string
  /** Names in payloads from the top; numbers are places in a list. */
  keys: (string | number)[]
  /** Labels for people. */
  label: string
  member: Member
  /** The equipment whose binding it is: another one when a part is that equipment. */
  owner: Equipment
  binding: Binding | null
  /** Bound by the class's calculation, not by the equipment. */
  byClass: boolean
  fill: Fill | null
  /** What the tag or record measures in, when it is not the member's own unit. */
  convertedFrom: string | null
  problem: MemberProblem | null
}

interface Found {
  fill: Fill
  dataType: DataType
  unit: string | null
}
type Outcome = Found | { problem: MemberProblem }

const broken = (message: string): { problem: MemberProblem } => ({ problem: { kind: 'broken', stops: true, message } })

/** The row of a record source that is meant for an equipment: `{name}`, `{alias}` and `{fact.x}` filled in. */
export function recordRow(row: string, one: Pick<Equipment, 'name' | 'alias' | 'facts'>): string {
  return row.replace(/\{(name|alias|fact\.([^{}]+))\}/g, (_, what: string, fact?: string) =>
    what === 'name' ? one.name : what === 'alias' ? one.alias || one.name : String(own(one.facts, fact!) ?? ''),
  )
}

const typeOf = (value: Scalar): DataType => (typeof value === 'number' ? 'number' : typeof value === 'boolean' ? 'boolean' : 'text')

/** Whether values of one type may fill a member of another without losing or inventing something. */
export function typeFits(from: DataType, to: DataType): boolean {
  return from === to || to === 'text' || (from === 'integer' && to === 'number')
}

const article = (t: DataType) => (t === 'integer' ? 'an integer' : t === 'text' ? 'text' : `a ${t}`)

/** Resolves equipment against one state of the model; what is resolved is kept, so make a new one when the model changes. */
export class Resolver {
  private readonly leaves = new Map<string, Leaf[]>()
  private readonly found = new Map<string, Outcome>()
  private readonly underway: { key: string; name: string }[] = []
  private readonly membersByClass = new Map<string, Member[]>()
  private childrenOf: Map<string, Equipment[]> | null = null

  constructor(readonly model: Model) {}

  members(classId: string): Member[] {
    let members = this.membersByClass.get(classId)
    if (!members) this.membersByClass.set(classId, (members = membersOf(this.model.classes, classId)))
    return members
  }

  /** Equipment right under another, in the order of their names. */
  under(id: string): readonly Equipment[] {
    if (!this.childrenOf) {
      this.childrenOf = new Map()
      for (const e of this.model.equipment.values()) {
        if (!e.parentId) continue
        const list = this.childrenOf.get(e.parentId)
        if (list) list.push(e)
        else this.childrenOf.set(e.parentId, [e])
      }
      for (const list of this.childrenOf.values()) list.sort((a, b) => byName(a.name, b.name))
    }
    return this.childrenOf.get(id) ?? []
  }

  /** All values of an equipment, in the order of its class. */
  leavesOf(one: Equipment): readonly Leaf[] {
    let leaves = this.leaves.get(one.id)
    if (leaves) return leaves
    leaves = []
    this.leaves.set(one.id, leaves)
    if (one.classId) this.walk(one, one.classId, '', [], '', '', leaves, new Set([one.id]))
    return leaves
  }

  private walk(
    owner: Equipment,
    classId: string,
    prefix: string,
    keys: readonly (string | number)[],
    label: string,
    /** Where the class whose calculations are meant begins. */
    scope: string,
    out: Leaf[],
    inside: ReadonlySet<string>,
  ): void {
    for (const m of this.members(classId)) {
      const path = prefix + m.id
      const here = label ? `${label} ${m.label}` : m.label
      if (!m.many) this.item(owner, m, path, [...keys, m.key], here, scope, out, inside)
      else if (m.classId && own(owner.bindings, path)?.kind === 'below')
        this.under(owner.id)
          .filter((e) => isA(this.model.classes, e.classId, m.classId!))
          .forEach((e, i) => {
            this.embed(owner, m, path, e.id, [...keys, m.key, i], `${here} ${i + 1}`, out, inside)
          })
      else {
        const count = owner.counts[path] ?? 0
        for (let i = 0; i < count; i++) this.item(owner, m, `${path}/${i}`, [...keys, m.key, i], `${here} ${i + 1}`, scope, out, inside)
        if (count === 0 && m.required)
          out.push(this.leaf(owner, m, path, [...keys, m.key], here, null, false, unbound('The list is empty: say how many items it has')))
      }
    }
  }

  private item(
    owner: Equipment,
    m: Member,
    path: string,
    keys: (string | number)[],
    label: string,
    scope: string,
    out: Leaf[],
    inside: ReadonlySet<string>,
  ): void {
    if (m.classId) {
      const b = own(owner.bindings, path)
      if (b?.kind === 'equipment') this.embed(owner, m, path, b.equipmentId, keys, label, out, inside)
      else this.walk(owner, m.classId, `${path}/`, keys, label, `${path}/`, out, inside)
      return
    }
    const bound = own(owner.bindings, path) ?? null
    const byClass = !bound && m.calculation !== null
    const binding: Binding | null = bound ?? (m.calculation ? { kind: 'expression', expression: scoped(m.calculation, scope) } : null)
    out.push(this.leaf(owner, m, path, keys, label, binding, byClass))
  }

  /** A part that is another equipment. */
  private embed(
    owner: Equipment,
    m: Member,
    path: string,
    id: string,
    keys: (string | number)[],
    label: string,
    out: Leaf[],
    inside: ReadonlySet<string>,
  ): void {
    const other = this.model.equipment.get(id)
    const say = (message: string, kind: MemberProblem['kind'] = 'broken') =>
      void out.push(this.leaf(owner, m, path, keys, label, own(owner.bindings, path) ?? null, false, { kind, stops: true, message }))
    if (!other) return say('The equipment that stands for it is gone')
    if (!isA(this.model.classes, other.classId, m.classId!)) return say(`${other.name} is not of the class that is asked for here`, 'type')
    if (inside.has(id)) return say(`${other.name} would hold itself`, 'cycle')
    this.walk(other, other.classId!, '', keys, label, '', out, new Set([...inside, id]))
  }

  private leaf(
    owner: Equipment,
    m: Member,
    path: string,
    keys: (string | number)[],
    label: string,
    binding: Binding | null,
    byClass: boolean,
    given?: MemberProblem,
  ): Leaf {
    const leaf: Leaf = { path, keys, label, member: m, owner, binding, byClass, fill: null, convertedFrom: null, problem: null }
    if (given) leaf.problem = given
    else if (!binding) leaf.problem = m.required ? missing : open
    else {
      const outcome = this.fillOf(owner, path, m, binding)
      if ('problem' in outcome) leaf.problem = outcome.problem
      else {
        const { fill, convertedFrom, problem } = toMember(outcome, m)
        leaf.fill = fill
        leaf.convertedFrom = convertedFrom
        leaf.problem = problem
      }
    }
    return leaf
  }

  /** What a binding gives, before it is brought to the member's unit. */
  private fillOf(owner: Equipment, path: string, m: Member, binding: Binding): Outcome {
    // What cannot lead back to itself need not be remembered.
    if (binding.kind !== 'expression' && binding.kind !== 'member') return this.look(owner, m, binding)
    const key = `${owner.id}:${path}`
    const known = this.found.get(key)
    if (known) return known
    const at = this.underway.findIndex((u) => u.key === key)
    const name = `${owner.name} ${m.label}`
    if (at >= 0)
      return {
        problem: {
          kind: 'cycle',
          stops: true,
          message: `It would need itself: ${[...this.underway.slice(at).map((u) => u.name), name].join(' > ')}`,
        },
      }
    this.underway.push({ key, name })
    try {
      const outcome = this.look(owner, m, binding)
      this.found.set(key, outcome)
      return outcome
    } finally {
      this.underway.pop()
    }
  }

  private look(owner: Equipment, m: Member, b: Binding): Outcome {
    switch (b.kind) {
      case 'tag':
        return this.tag(b.tagId)
      case 'constant':
        return { fill: { kind: 'constant', value: b.value }, dataType: typeOf(b.value), unit: null }
      case 'fact':
        return this.fact(owner, b.fact)
      case 'record': {
        const row = recordRow(b.row, owner)
        const handle = this.model.records.get(recordKey(b.sourceId, row, b.column, m.dataType))
        if (handle === undefined) return broken(`The record source does not give ${b.column}${row ? ` of ${row}` : ''}`)
        return { fill: { kind: 'tag', handle, width: 0, ...same }, dataType: m.dataType, unit: null }
      }
      case 'member':
        return this.member(b.equipmentId, b.path)
      case 'expression':
        return this.expression(owner, b.expression)
      default:
        return broken('A single value cannot be an equipment')
    }
  }

  private tag(id: string): Outcome {
    const tag = this.model.tags.get(id)
    if (!tag) return broken('The tag is gone')
    const width = tag.deadband ? deadbandWidth(tag.deadband, tag.range) : 0
    return { fill: { kind: 'tag', handle: tag.handle, width, ...same }, dataType: tag.dataType, unit: tag.unit }
  }

  private fact(owner: Equipment, fact: string): Outcome {
    const value = own(owner.facts, fact)
    if (value === undefined) return broken(`${owner.name} has no fact ${fact}`)
    return { fill: { kind: 'constant', value }, dataType: typeOf(value), unit: null }
  }

  /** The value of another member, in that member's unit. */
  private member(equipmentId: string, path: string): Outcome {
    const other = this.model.equipment.get(equipmentId)
    if (!other) return broken('The equipment it comes from is gone')
    const target = this.locate(other, path)
    if (!target) return broken(`${other.name} has no such member`)
    const { owner, member: m, scope } = target
    const bound = own(owner.bindings, target.path)
    const binding: Binding | undefined = bound ?? (m.calculation ? { kind: 'expression', expression: scoped(m.calculation, scope) } : undefined)
    if (!binding) return broken(`${owner.name} ${m.label} has nothing that fills it`)
    const outcome = this.fillOf(owner, target.path, m, binding)
    if ('problem' in outcome) return outcome
    const { fill } = toMember(outcome, m)
    return { fill, dataType: m.dataType, unit: m.unit }
  }

  /** The member that a path means; a part that is another equipment leads there. */
  locate(one: Equipment, path: string): { owner: Equipment; path: string; member: Member; scope: string } | null {
    let owner = one
    let classId = one.classId
    let where = ''
    let scope = ''
    const parts = path.split('/')
    for (let i = 0; i < parts.length; i++) {
      const m = classId ? this.members(classId).find((x) => x.id === parts[i]) : undefined
      if (!m) return null
      where += m.id
      let binding = own(owner.bindings, where)
      if (m.many) {
        const place = parts[++i]
        if (place === undefined || !/^\d+$/.test(place)) return null
        if (binding?.kind === 'below') {
          const other = this.under(owner.id).filter((e) => isA(this.model.classes, e.classId, m.classId!))[Number(place)]
          if (!other) return null
          binding = { kind: 'equipment', equipmentId: other.id }
        } else {
          if (Number(place) >= (own(owner.counts, where) ?? 0)) return null
          where += `/${place}`
          binding = own(owner.bindings, where)
        }
      }
      if (!m.classId) return i === parts.length - 1 ? { owner, path: where, member: m, scope } : null
      if (binding?.kind === 'equipment') {
        const other = this.model.equipment.get(binding.equipmentId)
        if (!other) return null
        owner = other
        classId = other.classId
        where = ''
        scope = ''
      } else {
        classId = m.classId
        where += '/'
        scope = where
      }
    }
    return null
  }

  private expression(owner: Equipment, e: Expression): Outcome {
    const inputs: FillInput[] = []
    for (const [name, input] of Object.entries(e.inputs)) {
      const outcome = this.input(owner, input)
      if ('problem' in outcome) {
        const { kind, message } = outcome.problem
        return { problem: { kind, stops: true, message: kind === 'cycle' ? message : `${name}: ${message}` } }
      }
      inputs.push({ name, dataType: outcome.dataType, fill: outcome.fill })
    }
    const compiled = compileExpression(e.text, inputs)
    if (!('run' in compiled)) return broken(compiled.message)
    return { fill: { kind: 'expression', text: e.text, inputs, ...same }, dataType: compiled.dataType ?? 'text', unit: null }
  }

  input(owner: Equipment, input: ExpressionInput): Outcome {
    if (input.kind === 'tag') return this.tag(input.tagId)
    if (input.kind === 'fact') return this.fact(owner, input.fact)
    return this.member(input.equipmentId ?? owner.id, input.path)
  }
}

const unbound = (message: string, stops = true): MemberProblem => ({ kind: 'unbound', stops, message })
const missing = unbound('Nothing fills it, and it is required')
const open = unbound('Nothing fills it', false)

/** A class's calculation as it stands in one of its parts: the members it names are those of that part. */
function scoped(e: Expression, scope: string): Expression {
  if (scope === '') return e
  const inputs = Object.fromEntries(
    Object.entries(e.inputs).map(([name, i]) => [name, i.kind === 'member' && i.equipmentId === null ? { ...i, path: scope + i.path } : i]),
  )
  return { ...e, inputs }
}

/** Brings what was found to the member's unit and says what does not fit. A result without a unit is taken as being in the member's. */
function toMember(found: Found, m: Member): Pick<Leaf, 'convertedFrom' | 'problem'> & { fill: Fill } {
  const { fill, dataType, unit } = found
  if (fill.kind === 'constant') {
    const ok = typeof fill.value === 'number' ? m.dataType !== 'integer' || Number.isSafeInteger(fill.value) : true
    const fits =
      ok && (typeFits(dataType, m.dataType) || (dataType === 'number' && m.dataType === 'integer') || (dataType === 'text' && m.dataType === 'time'))
    return { fill, convertedFrom: null, problem: fits ? null : { kind: 'type', stops: false, message: `${String(fill.value)} is no ${m.dataType}` } }
  }
  const numeric = m.dataType === 'number' || m.dataType === 'integer'
  // An expression gives numbers, whole or not: whole ones are right for an integer, others are cut.
  const fits = typeFits(dataType, m.dataType) || (fill.kind === 'expression' && dataType === 'number' && m.dataType === 'integer')
  const problem: MemberProblem | null = fits
    ? null
    : { kind: 'type', stops: false, message: `It gives ${article(dataType)}, the member is ${article(m.dataType)}` }
  if (problem || !numeric || unit === null || unit === m.unit) return { fill, convertedFrom: null, problem }
  const c: Conversion | null = conversion(unit, m.unit)
  if (!c) {
    const what = (u: string) => (u === '' ? 'no unit' : unitOf(u) ? `${u} (${unitOf(u)!.quantity})` : u)
    return { fill, convertedFrom: null, problem: { kind: 'unit', stops: false, message: `It is in ${what(unit)}, the member in ${what(m.unit)}` } }
  }
  if (c === same || !('factor' in fill)) return { fill, convertedFrom: null, problem: null }
  return { fill: { ...fill, ...chained({ factor: fill.factor, offset: fill.offset }, c) }, convertedFrom: unit, problem: null }
}

/** Handles that a fill reads, each once. */
export function handlesOf(fill: Fill | null, into = new Set<number>()): Set<number> {
  if (fill?.kind === 'tag') into.add(fill.handle)
  if (fill?.kind === 'expression') for (const i of fill.inputs) handlesOf(i.fill, into)
  if (fill && 'input' in fill) handlesOf(fill.input, into)
  return into
}
