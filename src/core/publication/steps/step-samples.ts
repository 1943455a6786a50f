// Equipment, values and plans for the tests of steps.
import type { Plan, PlanEquipment } from '~/contract/publication'
import { Step } from '~/contract/step'
import { member, planOf } from '../../shape/shape-samples'
import type { Scalar } from '../../value/deadband'
import { Status } from '../../value/quality'
import { applySteps } from './apply'

export type StepInput = Parameters<typeof Step.parse>[0]

export const T = Date.UTC(2026, 2, 4, 14, 7, 12)
const tag = (handle: number, width = 0) => ({ kind: 'tag' as const, handle, width, factor: 1, offset: 0 })

/** A zone of a kiln whose tags have the handles from `h` on. */
export const zone = (name: string, h: number): PlanEquipment => ({
  id: `0197c1d2-0000-7000-8000-0000000000${String(h).padStart(2, '0')}`,
  name,
  level: 'work unit',
  path: ['Varnmoor', name],
  className: 'Kiln Zone',
  classVersion: 1,
  facts: {},
  members: [
    member('temperature', 'number', { fill: tag(h), unit: '°C', range: { low: 0, high: 1200 } }),
    member('setpoint', 'number', { fill: tag(h + 1), unit: '°C' }),
    member('burning', 'boolean', { fill: tag(h + 2) }),
    member('program', 'text', { fill: tag(h + 3) }),
    member('cars', 'integer', { fill: tag(h + 4) }),
    member('probes.0.wet', 'number', { fill: tag(h + 5), unit: '%' }),
    member('probes.1.wet', 'number', { fill: tag(h + 6), unit: '%' }),
  ],
})
/** So many tags a zone has. */
export const zoneHandles = 7

/** Values as the live table holds them. */
export class Values {
  value: Scalar[] = []
  status: number[] = []
  time: number[] = []
  set(handle: number, value: Scalar, time = T, status: number = Status.good): void {
    this.value[handle] = value
    this.status[handle] = status
    this.time[handle] = time
  }
}

/** What a publication of these equipment with these steps would freeze. */
export function planWith(steps: readonly StepInput[], equipment = [zone('Zone 1', 0)]): Plan {
  const parsed = steps.map((s) => Step.parse(s))
  const applied = applySteps(parsed, equipment)
  if (applied.problems.length > 0) throw new Error(applied.problems.map((p) => p.message).join('; '))
  const after = applied.equipment.map((a) => ({ ...equipment[a.from]!, members: a.members }))
  const plan = planOf({ kind: 'flat-json' }, after)
  const messages = plan.messages.map((m, n) => ({ ...m, gates: applied.equipment[n]!.gates }))
  return {
    ...plan,
    trigger: { kind: 'change' },
    steps: parsed,
    messages,
    tables: applied.tables,
    lookups: applied.lookups,
    ...(applied.stages.length > 0 && { stages: applied.stages }),
  }
}
