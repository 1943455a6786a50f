import type { Plan } from '~/contract/publication'
import type { ValueArrays } from '~/core/publication/cells/cell'
import type { Runner } from '~/core/publication/runner'
import { qualityOf, Status } from '~/core/value/quality'

/** So many are named. */
const MOST = 20

/** Members that give no value, as last read, though all that they are made from is good: expressions without an answer. */
export function unanswered(plan: Plan, runner: Runner, { status }: Pick<ValueArrays, 'status'>): string[] {
  // What comes through a step that takes its time has been good before it.
  if ((plan.stages ?? []).length > 0) return []
  const good = (h: number) => qualityOf(status[h] ?? Status.waitingForInitialData) !== 'bad'
  const out: string[] = []
  for (const [e, cells] of runner.cellsOfEquipment.entries())
    for (const [m, cell] of cells.entries()) {
      if (out.length === MOST) return out
      if (cell.handles.length === 0 || qualityOf(cell.status) !== 'bad' || !cell.handles.every(good)) continue
      const { name, members } = plan.equipment[e]!
      out.push(`${name} ${members[m]!.label || members[m]!.key}`)
    }
  return out
}
