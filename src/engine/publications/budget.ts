import type { Budget } from '~/contract/budget'
import type { Plan } from '~/contract/publication'
import { type Compared, deviationOf, spanOf, together } from '~/core/budget/deviation'
import type { Meter } from '~/core/budget/meter'
import type { Assurance } from '~/core/delivery/envelope'
import type { Cell } from '~/core/publication/cells/cell'
import { CellMaker, lookedUpIn, tablesOf } from '~/core/publication/cells/maker'
import type { LookupAnswer } from '~/core/rows/looked-up'
import { qualityOf } from '~/core/value/quality'
import type { LiveTable } from '../live/table'
import { PlanReader } from './plan-reader'
import { type ReckonOptions, reckon } from './reckon'

/** So many members are told one by one. */
const MEMBERS = 50

type Points = [at: number, value: number][]

interface Followed {
  key: string
  name: string
  unit: string
  cell: Cell
  points: Points
}

/** What the numbers of a publication were, moment by moment, as they go into its messages. */
class Truth {
  readonly all: Followed[] = []
  private readonly byHandle = new Map<number, Followed[]>()

  constructor(plan: Plan, answers: readonly LookupAnswer[]) {
    const tables = tablesOf(plan.tables)
    const lookups = lookedUpIn(plan.lookups)
    for (const [i, answer] of answers.entries()) lookups[i]!.take(answer)
    plan.equipment.forEach((one, e) => {
      const maker = new CellMaker(tables, false, lookups)
      for (const m of plan.stages?.[0]?.equipment[e] ?? one.members) {
        if (m.dataType !== 'number' || m.fill.kind === 'constant') continue
        const followed = {
          key: `${e} ${m.key}`,
          name: `${one.name} ${m.label || m.key}`,
          unit: m.unit,
          cell: maker.make(m.fill, m.dataType),
          points: [],
        }
        this.all.push(followed)
        for (const h of followed.cell.handles) {
          const list = this.byHandle.get(h)
          if (list) list.push(followed)
          else this.byHandle.set(h, [followed])
        }
      }
    })
  }

  look(handles: Iterable<number>, table: LiveTable, at: number): void {
    const touched = new Set<Followed>()
    for (const h of handles) for (const f of this.byHandle.get(h) ?? []) touched.add(f)
    for (const { cell, points } of touched) {
      cell.read(table, at)
      const value = numberOf(cell.value)
      if (value !== null && qualityOf(cell.status) !== 'bad' && points.at(-1)?.[1] !== value)
        points.push([Number.isNaN(cell.time) ? at : cell.time, value])
    }
  }
}

const numberOf = (value: unknown): number | null => {
  const n = typeof value === 'bigint' ? Number(value) : value
  return typeof n === 'number' && Number.isFinite(n) ? n : null
}

/** What a receiver can rebuild of the numbers, from what is sent to it. */
class Rebuilt {
  readonly points = new Map<string, Points>()
  private readonly reader: PlanReader

  constructor(private readonly plan: Plan) {
    this.reader = new PlanReader(plan)
  }

  take({ n, payload, headers, at }: { n: number; payload: Uint8Array; headers: readonly [string, string][]; at: number }): void {
    const own = this.plan.messages[n]!.equipment
    for (const r of this.reader.readings(n, payload, headers) ?? []) {
      const value = numberOf(r.value)
      const e = r.equipment === null ? own[0] : own.find((i) => this.plan.equipment[i]!.name === r.equipment)
      if (value === null || e === undefined || r.quality === 'bad') continue
      const key = `${e} ${r.member}`
      const points = this.points.get(key)
      if (points) points.push([r.time ?? at, value])
      else this.points.set(key, [[r.time ?? at, value]])
    }
  }
}

const inOrder = (points: Points): Points => points.sort((a, b) => a[0] - b[0])

export interface BudgetOptions extends Omit<ReckonOptions, 'made' | 'seen'> {
  /** Of its destination; null: there is no model of it. */
  meter: Meter | null
  assurance: Assurance
  /** Ids of its messages, by how many went before. */
  idOf(n: number): string
}

/** Sends what was recorded through a plan, and holds what a receiver could rebuild against what it was; null for an edge node. */
export async function budgetOf({ meter, assurance, idOf, ...o }: BudgetOptions): Promise<Budget | null> {
  const truth = new Truth(o.plan, o.answers ?? [])
  const rebuilt = new Rebuilt(o.plan)
  let count = 0
  const reckoned = await reckon({
    ...o,
    seen: (handles, table, at) => truth.look(handles, table, at),
    made: (m) => {
      rebuilt.take(m)
      meter?.add({ at: m.at, place: m.place, payload: m.payload, properties: m.properties, assurance, id: idOf(count) })
      count++
    },
  })
  if (!reckoned) return null
  const { from, to, cut, messages, octets, problems } = reckoned
  const all: Compared[] = []
  for (const { key, name, unit, points } of truth.all) {
    const told = rebuilt.points.get(key)
    const [first] = inOrder(points)
    // What is never sent under its name, in numbers, is nothing to compare; but a message that did not come is.
    if (!first || (!told && messages > 0 && !couldCome(rebuilt, key))) continue
    const d = deviationOf(points, [first, ...inOrder(told ?? [])], from, to)
    if (d) all.push({ name, unit, span: spanOf(points), ...d })
  }
  const moved = all.filter((c) => c.span > 0)
  return {
    ...{ from, to, cut, problems: problems.slice(0, 5), damaged: o.playback.damaged() },
    would: { messages, octets, wire: meter?.wire() ?? null },
    lost: together(moved),
    members: moved.sort((a, b) => b.rms / b.span - a.rms / a.span).slice(0, MEMBERS),
    compared: moved.length,
  }
}

/** Whether a member of that name came of any equipment: then those of which nothing came just did not change enough. */
const couldCome = ({ points }: Rebuilt, key: string): boolean => {
  const member = key.slice(key.indexOf(' '))
  for (const known of points.keys()) if (known.slice(known.indexOf(' ')) === member) return true
  return false
}
