import type { HeldValues, Plan, PlanEquipment, PlanMember, StepShown } from '~/contract/publication'
import type { Step } from '~/contract/step'
import type { Cell, ValueArrays } from '~/core/publication/cells/cell'
import { CellMaker, lookedUpIn, tablesOf } from '~/core/publication/cells/maker'
import { conditionFill } from '~/core/publication/condition'
import type { Runner } from '~/core/publication/runner'
import { type Applied, applySteps, type Between } from '~/core/publication/steps/apply'
import { type Row, RowValues } from '~/core/publication/steps/row'
import { keyPlaces, Window } from '~/core/publication/steps/window'
import type { LookedUp, LookupAnswer } from '~/core/rows/looked-up'
import { displayValue } from '~/core/value/datatype'
import { qualityOf, qualityText } from '~/core/value/quality'
import { fromWire, toWire } from '~/core/value/wire'
import type { LiveTable } from '../live/table'
import type { Sandbox } from '../scripts/sandbox'
import { problemWords } from '../scripts/script'
import { rowAfter, scriptInput, scriptOf } from './flow'

const CHANGES = 40
/** For so many equipment it is counted whether a step lets them pass. */
const PASSING = 200
/** A step is done so often to see what it costs. */
const TIMES = 20

type Stage = NonNullable<Plan['stages']>[number]

/** What a stage makes of one message, at once: a window of one, or a script that has kept nothing yet. */
async function staged(
  stage: Stage,
  plan: Pick<Plan, 'equipment'>,
  equipment: number,
  row: Row,
  now: number,
  open: () => Promise<Sandbox>,
): Promise<{ row: Row | null; problem: string; console: string[]; microseconds: number | null }> {
  if (stage.work.kind === 'window') {
    const window = new Window(
      stage.work,
      keyPlaces(stage, () => equipment),
    )
    const full = window.offer(row, 0)
    return { row: full ?? window.due(0, true)[0]!, problem: '', console: [], microseconds: null }
  }
  const sandbox = await open()
  const script = scriptOf(stage.work.code)
  const input = scriptInput(stage, plan, equipment, row, '{}', now)
  const begun = performance.now()
  const outcome = sandbox.run(script, input)
  const ran = { console: outcome.console, microseconds: (performance.now() - begun) * 1000 }
  if (outcome.kind === 'failed') return { row: null, problem: problemWords(outcome.problem), ...ran }
  if (outcome.kind === 'dropped') return { row: null, problem: '', ...ran }
  const after = rowAfter(stage as Parameters<typeof rowAfter>[0], equipment, row, outcome.message)
  return typeof after === 'string' ? { row: null, problem: after, ...ran } : { row: after, problem: '', ...ran }
}

/** Brings the message of a plan of one through its stages; gives the place of the step that it does not come through. */
export async function throughStages(runner: Runner, plan: Plan, now: number, open: () => Promise<Sandbox>): Promise<number | null> {
  const equipment = plan.messages[0]!.equipment[0]!
  for (const [s, stage] of (plan.stages ?? []).entries()) {
    const row = runner.take(s, 0, true, now)
    if (!row) return runner.stepCounts.find((c) => c.held > 0)?.step ?? stage.step
    const { row: after } = await staged(stage, plan, equipment, row, now, open)
    if (!after) return stage.step
    runner.give(s, after, now)
  }
  return null
}

/** Steps applied, with the rows in which they look something up. */
type Means = Pick<Applied, 'tables'> & { lookedUp: readonly LookedUp[] }

function meansOf(applied: Applied, answers: readonly LookupAnswer[]): Applied & Means {
  const lookedUp = lookedUpIn(applied.lookups)
  for (const [i, answer] of answers.entries()) lookedUp[i]?.take(answer)
  return { ...applied, lookedUp }
}

interface Seen {
  member: PlanMember
  cell: Cell
}

const shownValue = (cell: Cell): string => displayValue(cell.value)

function changesOf(before: readonly Seen[], after: readonly Seen[]): StepShown['changes'] {
  const was = new Map(before.map((s) => [s.member.key, s]))
  const is = new Set(after.map((s) => s.member.key))
  const gone = before.filter((s) => !is.has(s.member.key))
  const out: StepShown['changes'] = []
  for (const { member, cell } of after) {
    const then = was.get(member.key)
    const same = then && then.cell.value === cell.value && then.cell.status === cell.status && then.member.unit === member.unit
    if (same) continue
    const unit = member.unit ? ` ${member.unit}` : ''
    out.push({
      member: member.key,
      before: then ? `${shownValue(then.cell)}${then.member.unit ? ` ${then.member.unit}` : ''}` : null,
      after: `${shownValue(cell)}${unit}`,
      quality: qualityText(cell.status),
    })
  }
  for (const { member, cell } of gone) out.push({ member: member.key, before: shownValue(cell), after: null, quality: '' })
  return out
}

function cellsOf(members: readonly PlanMember[], applied: Means, values: ValueArrays, now: number): Seen[] {
  const maker = new CellMaker(tablesOf(applied.tables), false, applied.lookedUp)
  return members.map((member) => {
    const cell = maker.make(member.fill, member.dataType)
    cell.read(values, now)
    return { member, cell }
  })
}

/** Whether a condition lets these members pass now; null: it has no answer. */
function lets(step: Extract<Step, { kind: 'keep' | 'drop' }>, members: readonly PlanMember[], applied: Means, values: ValueArrays, now: number) {
  const found = conditionFill(step.condition, members)
  if ('problem' in found) return null
  const cell = new CellMaker(tablesOf(applied.tables), false, applied.lookedUp).make(found.fill, 'boolean')
  cell.read(values, now)
  const answer = qualityOf(cell.status) === 'bad' ? null : cell.value
  return { passes: answer === null ? step.unknown === 'pass' : (answer === true) === (step.kind === 'keep'), cell }
}

const costOf = (work: () => void): number => {
  const begun = performance.now()
  for (let i = 0; i < TIMES; i++) work()
  return ((performance.now() - begun) * 1000) / TIMES
}

const unreached: StepShown = { result: 'unreached', changes: [], changeCount: 0, passing: null, microseconds: null, console: [], problem: '' }

/** What each step does to a message of this equipment with the values of this moment, and for how many of all it lets it pass. */
export async function stepsShown(
  steps: readonly Step[],
  one: PlanEquipment,
  all: readonly PlanEquipment[],
  { table, answers }: { table: LiveTable; answers: readonly LookupAnswer[] },
  open: () => Promise<Sandbox>,
): Promise<StepShown[]> {
  const now = Date.now()
  const trace: PlanMember[][] = []
  const applied = meansOf(
    applySteps(steps, [one], (between) => trace.push(between[0]?.members ?? [])),
    answers,
  )
  const others: Between[] = []
  applySteps(steps, all.slice(0, PASSING), (between) => others.push([...between].map(({ from, members }) => ({ from, members }))))
  let values: ValueArrays = table
  let stage = 0
  let reached = true
  const out: StepShown[] = []
  let before = cellsOf(trace[0]!, applied, values, now)
  for (const [n, step] of steps.entries()) {
    const problem = applied.problems.find((p) => p.step === n)?.message ?? ''
    const passing =
      (step.kind === 'keep' || step.kind === 'drop') && stage === 0 && problem === '' ? passingOf(step, others[n]!, applied, values, now) : null
    if (!reached || problem !== '') {
      out.push({ ...unreached, passing, problem, ...(problem !== '' && { result: 'failed' as const }) })
      reached = false
      continue
    }
    if (step.kind === 'keep' || step.kind === 'drop') {
      const found = lets(step, trace[n]!, applied, values, now)
      const from = values
      const microseconds = found && costOf(() => found.cell.read(from, now))
      reached = found?.passes ?? true
      out.push({ ...unreached, result: reached ? 'passes' : 'held', passing, microseconds })
      continue
    }
    let came: Awaited<ReturnType<typeof staged>> | null = null
    const work = applied.stages[stage]
    if (step.kind === 'window' || step.kind === 'script') {
      if (!work) {
        // Another step is wrong, so that nothing is known of what comes here.
        out.push(unreached)
        reached = false
        continue
      }
      const row: Row = {
        n: 0,
        whole: true,
        values: before.map((s) => s.cell.value),
        status: before.map((s) => s.cell.status),
        time: before.map((s) => s.cell.time),
      }
      came = await staged(work, { equipment: [one] }, 0, row, now, open)
      stage++
      if (!came.row) {
        reached = false
        const { problem: failure, console, microseconds } = came
        out.push({ ...unreached, console, microseconds, problem: failure, result: failure === '' ? 'held' : 'failed' })
        continue
      }
      const rows = new RowValues(work)
      rows.put(0, came.row)
      values = rows
    }
    const after = cellsOf(trace[n + 1]!, applied, values, now)
    const changes = changesOf(before, after)
    const touched = new Set(changes.map((c) => c.member))
    const moved = after.filter((s) => touched.has(s.member.key))
    const from = values
    const microseconds = came
      ? came.microseconds
      : costOf(() => {
          for (const { cell } of moved) cell.read(from, now)
        })
    out.push({
      ...unreached,
      result: 'passes',
      changes: changes.slice(0, CHANGES),
      changeCount: changes.length,
      microseconds,
      console: came?.console ?? [],
    })
    before = after
  }
  return out.map(({ result, changes, changeCount, passing, microseconds, console, problem }) => ({
    ...{ result, changes, changeCount, passing, console, problem },
    microseconds: microseconds === null ? null : Math.round(microseconds * 100) / 100,
  }))
}

function passingOf(step: Extract<Step, { kind: 'keep' | 'drop' }>, between: Between, applied: Means, values: ValueArrays, now: number) {
  const count = between.filter(({ members }) => lets(step, members, applied, values, now)?.passes).length
  return { count, of: between.length }
}

/** Values of tags, to be handed in again. */
export const heldOf = (table: LiveTable, handles: readonly number[]): HeldValues =>
  handles.map((h) => {
    const time = table.time[h]
    return [h, toWire(table.value[h] ?? null), table.status[h] ?? 0, time === undefined || !Number.isFinite(time) ? null : time]
  })

/** Puts held values in the place of those of this moment. */
export function holdIn(table: LiveTable, held: HeldValues): void {
  table.apply({
    handles: held.map(([h]) => h),
    values: held.map(([, v]) => fromWire(v)),
    statuses: held.map(([, , s]) => s),
    times: held.map(([, , , t]) => t ?? Number.NaN),
  })
}
