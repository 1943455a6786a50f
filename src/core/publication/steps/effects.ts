import type { Fill } from '~/contract/fill'
import type { PlanGate, PlanMember, PlanStage } from '~/contract/publication'
import type { Step, StepKind } from '~/contract/step'
import { conversion, same } from '../../value/convert'
import { Table, valueIn } from '../cells/made'
import { conditionFill, conditionName, expressionFill } from '../condition'
import { added, inTheWay, isUnder, type Line, type Workings } from './line'

type Of<K extends StepKind> = Extract<Step, { kind: K }>
/** What a step does to one equipment's message; a list: it becomes these. `n` is the place of the step. */
type Effect<K extends StepKind> = (step: Of<K>, n: number, line: Line, work: Workings) => Line[] | undefined

const number = (m: Pick<PlanMember, 'dataType'>) => m.dataType === 'number' || m.dataType === 'integer'
const meant = (line: Line, keys: readonly string[]) => line.members.filter((m) => keys.some((key) => isUnder(m.key, key)))

function gate({ condition, unknown }: Of<'keep' | 'drop'>, wanted: boolean, n: number, line: Line, work: Workings): void {
  const found = conditionFill(condition, line.members, work.known)
  if ('problem' in found) return work.say(found.problem)
  work.did()
  line.gates.push({ kind: 'condition', step: n, when: found.fill, wanted, unknown })
}

/** Puts a member in the place of the one with its key, or behind all others. */
function put(line: Line, member: PlanMember, work: Workings): boolean {
  const at = line.members.findIndex((m) => m.key === member.key)
  if (at < 0) {
    const problem = inTheWay(line.members, member.key)
    if (problem) {
      work.say(`${member.key} cannot be there: ${problem}`)
      return false
    }
    line.members = [...line.members, member]
  } else line.members = line.members.with(at, member)
  work.did()
  return true
}

const set: Effect<'set'> = ({ member: key, expression, unit }, _n, line, work) => {
  const found = expressionFill(expression, line.members, work.known)
  if ('problem' in found) return void work.say(found.problem)
  const there = line.members.find((m) => m.key === key)
  const dataType = found.dataType ?? there?.dataType ?? 'number'
  const kept = there?.dataType === dataType ? there : null
  const made = added(key, dataType, unit ?? there?.unit ?? '', found.fill)
  put(line, kept ? { ...kept, unit: made.unit, fill: made.fill, tag: '' } : { ...made, label: there?.label ?? key }, work)
}

const rename: Effect<'rename'> = ({ member, to }, _n, line, work) => {
  const moved = meant(line, [member])
  if (moved.length === 0) return
  const problem = inTheWay(
    line.members.filter((m) => !moved.includes(m)),
    to,
  )
  if (problem) return void work.say(`${member} cannot become ${to}: ${problem}`)
  line.members = line.members.map((m) => (moved.includes(m) ? { ...m, key: to + m.key.slice(member.length) } : m))
  work.did()
}

const leave: Effect<'leave'> = ({ members, but }, _n, line, work) => {
  const some = new Set(meant(line, members))
  if (some.size > 0) work.did()
  const left = line.members.filter((m) => some.has(m) === but)
  if (left.length === 0) return void work.say('nothing would be left to send')
  line.members = left
}

const convert: Effect<'convert'> = ({ member: key, unit, dataType }, _n, line, work) => {
  const at = line.members.findIndex((m) => m.key === key)
  const there = line.members[at]
  if (!there) return
  const moved = unit === undefined || there.unit === '' ? same : conversion(there.unit, unit)
  if (moved === null) return void work.say(`${key} is in ${there.unit}, which does not become ${unit}`)
  const type = dataType ?? (moved !== same && there.dataType === 'integer' ? 'number' : there.dataType)
  if (moved !== same && type !== 'number' && type !== 'integer') return void work.say(`${key} is ${type}: only numbers are in units`)
  const by = (x: number) => x * moved.factor + moved.offset
  const [low, high] = there.range ? [by(there.range.low), by(there.range.high)] : [0, 0]
  line.members = line.members.with(at, {
    ...there,
    dataType: type,
    unit: unit ?? there.unit,
    fill: { kind: 'as', input: there.fill, inputType: there.dataType, factor: moved.factor, offset: moved.offset },
    range: there.range && number({ dataType: type }) ? { ...there.range, low: Math.min(low, high), high: Math.max(low, high) } : null,
    allowed: moved === same && type === there.dataType ? there.allowed : null,
  })
  work.did()
}

const lookup: Effect<'lookup'> = ({ member: key, table, under, otherwise }, n, line, work) => {
  const there = line.members.find((m) => m.key === key)
  if (!there) return
  let place = work.tables.indexOf(table)
  if (place < 0) {
    place = work.tables.push(table) - 1
    work.read.push(new Table(table))
  }
  const types = work.read[place]!
  for (const [i, column] of table.columns.slice(1).entries()) {
    const to = under ? `${under}.${conditionName(column)}` : conditionName(column)
    const dataType = types.typeOf(i + 1)
    const missing = otherwise === undefined ? null : valueIn(otherwise, dataType)
    const wrong = dataType === 'number' && typeof missing === 'number' && !Number.isFinite(missing)
    if (wrong) {
      work.say(`${otherwise} is no number, as all of ${column} are`)
      continue
    }
    put(
      line,
      added(to, dataType, '', { kind: 'lookup', input: there.fill, inputType: there.dataType, table: place, column: i + 1, otherwise: missing }),
      work,
    )
  }
  if (table.columns.length < 2) work.say(`step ${n + 1} has no table yet`)
}

const record: Effect<'record'> = ({ member: key, sourceId, at, key: rowKey, columns, under }, n, line, work) => {
  // One place for all equipment, also where one has nothing to look up: places are those of the steps.
  let place = work.lookups.findIndex((l) => l.step === n)
  if (place < 0)
    place =
      work.lookups.push({ step: n, sourceId, source: '', at, key: rowKey, columns: columns.map(({ name, dataType }) => ({ name, dataType })) }) - 1
  const there = line.members.find((m) => m.key === key)
  if (!there) return
  for (const [i, column] of columns.entries()) {
    const to = under ? `${under}.${conditionName(column.name)}` : conditionName(column.name)
    put(
      line,
      added(to, column.dataType, column.unit, { kind: 'record', input: there.fill, inputType: there.dataType, lookup: place, column: i }),
      work,
    )
  }
}

/** The same made of each member that is meant. */
function each(keys: readonly string[], line: Line, work: Workings, takes: (m: PlanMember) => boolean, make: (m: PlanMember) => Fill): void {
  const some = meant(line, keys)
  const fit = new Set(some.filter(takes))
  for (const m of some) if (!fit.has(m) && keys.includes(m.key)) work.say(`${m.key} is ${m.dataType}, and not a number`)
  if (fit.size === 0) return
  line.members = line.members.map((m) => (fit.has(m) ? { ...m, fill: make(m) } : m))
  work.did()
}

const smooth: Effect<'smooth'> = ({ members, seconds }, _n, line, work) =>
  void each(members, line, work, number, (m) => ({ kind: 'smooth', input: m.fill, inputType: m.dataType, seconds }))

const bridge: Effect<'bridge'> = ({ members, by, seconds }, _n, line, work) =>
  void each(
    members,
    line,
    work,
    (m) => by === 'last' || number(m),
    (m) => ({ kind: 'bridge', input: m.fill, inputType: m.dataType, by, seconds: seconds ?? null }),
  )

const split: Effect<'split'> = ({ member: list, as }, _n, line, work) => {
  if (line.before.length > 0) return void work.say('a list is split before a window or a script, not after it')
  const item = (key: string) => (key.startsWith(`${list}.`) ? /^(\d+)(?:\.(.+))?$/.exec(key.slice(list.length + 1)) : null)
  const own = line.members.filter((m) => !isUnder(m.key, list))
  const items = new Map<string, PlanMember[]>()
  for (const m of line.members) {
    const found = item(m.key)
    if (!found) continue
    const [, place, rest] = found
    items.set(place!, [...(items.get(place!) ?? []), { ...m, key: rest ?? list.split('.').at(-1)! }])
  }
  if (items.size === 0) return
  const taken = as === undefined ? null : inTheWay(own, as)
  if (taken) return void work.say(`its place cannot be ${as}: ${taken}`)
  work.did()
  const lines: Line[] = []
  for (const [place, members] of items) {
    const nth: PlanMember[] = as === undefined ? [] : [added(as, 'integer', '', { kind: 'constant', value: Number(place) + 1 })]
    const all = [...own, ...nth]
    for (const m of members) {
      const problem = inTheWay(all, m.key)
      if (problem) return void work.say(`an item has ${m.key}: ${problem}`)
      all.push(m)
    }
    lines.push({ ...line, members: all, gates: [...line.gates], before: [...line.before] })
  }
  return lines
}

/** The places of a list that a member becomes. */
const listOf = (m: PlanMember, places: number): PlanMember[] =>
  Array.from({ length: places }, (_, i) => ({ ...m, key: `${m.key}.${i}`, label: `${m.label} ${i + 1}`, required: false, tag: '' }))

/** Members that come out of a step that takes its time, of these that go in: the same and those that it adds. */
export function outOf(work: PlanStage['work'], members: readonly PlanMember[]): PlanMember[] {
  const none: Fill = { kind: 'row', place: 0 }
  if (work.kind === 'window') {
    const counted = work.count === null ? [] : [added(work.count, 'integer', '', none)]
    if (work.by === 'each') return [...members.flatMap((m) => (m.key === work.key ? [m] : listOf(m, work.messages ?? 0))), ...counted]
    const same = work.by === 'average' ? members.map((m) => (m.dataType === 'integer' ? { ...m, dataType: 'number' as const } : m)) : [...members]
    return [...same, ...counted]
  }
  const given = new Map(work.gives.map((g) => [g.member, g]))
  const out = members.map((m) => {
    const g = given.get(m.key)
    given.delete(m.key)
    return g ? { ...m, dataType: g.dataType, unit: g.unit || m.unit, range: null, allowed: null, tag: '' } : m
  })
  return [...out, ...[...given.values()].map((g) => added(g.member, g.dataType, g.unit, none))]
}

/** So many values a message has at most whose members become lists. */
const PLACES_MOST = 2000

function pause(work: PlanStage['work'], line: Line, workings: Workings): void {
  const { members } = line
  if (work.kind === 'window') {
    const { key, messages, by } = work
    if (key !== undefined && !members.some((m) => m.key === key)) return workings.say(`there is no member ${key}`)
    if (by === 'each' && messages === null) return workings.say('say after how many messages a list is whole')
    if (by === 'each' && members.length * messages! > PLACES_MOST)
      return workings.say(`${members.length} members of ${messages} places each are more than ${PLACES_MOST} in one message`)
  }
  const out = outOf(work, members)
  const given = new Set(members.map((m) => m.key))
  const fresh = work.kind === 'window' ? out.filter((m) => m.key === work.count) : out.filter((m) => !given.has(m.key))
  for (const m of fresh) {
    const problem = inTheWay(members, m.key)
    if (problem) return workings.say(`${m.key} cannot be there: ${problem}`)
  }
  line.before.push({ members, gates: line.gates })
  line.members = out
  line.gates = []
  workings.did()
}

const windowOf = ({ seconds, messages, by, count, key }: Of<'window'>) => ({
  kind: 'window' as const,
  seconds,
  messages: messages ?? null,
  by,
  count: count ?? null,
  ...(key !== undefined && { key }),
})

/** What each kind of step does. */
export const effects: { [K in StepKind]: Effect<K> } = {
  keep: (step, n, line, work) => void gate(step, true, n, line, work),
  drop: (step, n, line, work) => void gate(step, false, n, line, work),
  repeats: (_step, n, line, work) => {
    const repeats: PlanGate = { kind: 'repeats', step: n }
    line.gates = [...line.gates, repeats]
    work.did()
    return undefined
  },
  set,
  rename,
  leave,
  convert,
  lookup,
  record,
  smooth,
  bridge,
  split,
  window: (step, _n, line, work) => void pause(windowOf(step), line, work),
  script: ({ code, gives }, _n, line, work) => void pause({ kind: 'script', code, gives }, line, work),
}

/** What a step does that takes its time; null: it takes none. */
export function workOf(step: Step): PlanStage['work'] | null {
  if (step.kind === 'window') return windowOf(step)
  return step.kind === 'script' ? { kind: 'script', code: step.code, gives: step.gives } : null
}
