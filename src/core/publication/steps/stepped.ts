import type { Fill } from '~/contract/fill'
import type { PlanGate, PlanMessage, PlanStage, PublicationDraft } from '~/contract/publication'
import type { PlanLookup } from '~/contract/row-place'
import type { LookupTable } from '~/contract/step'
import { some } from '../../address/some'
import { shapeOf } from '../../shape/registry'
import type { Placed, Say, World } from '../placed'
import { applySteps, stepNames } from './apply'

/** Equipment after the steps, each with the place of the one that it was. */
interface AfterSteps {
  placed: (Placed & { from: number })[]
  /** What the messages of each have to pass. */
  gatesOf: PlanGate[][]
  tables: LookupTable[]
  lookups: PlanLookup[]
  stages: PlanStage[]
}

/** Whether anything that moves is in it. */
const moves = (fill: Fill): boolean =>
  fill.kind === 'tag' ||
  fill.kind === 'row' ||
  (fill.kind === 'expression' ? fill.inputs.some((i) => moves(i.fill)) : 'input' in fill && moves(fill.input))

/** The steps of a draft applied to its equipment. */
export function stepped({ steps = [], shape }: PublicationDraft, source: readonly Placed[], world: Pick<World, 'rows'>, stop: Say): AfterSteps {
  if (steps.length === 0) return { placed: source.map((p, from) => ({ ...p, from })), gatesOf: [], tables: [], lookups: [], stages: [] }
  const { equipment, stages, tables, lookups, problems } = applySteps(
    steps,
    source.map((p) => p.plan),
  )
  for (const { step, message } of problems)
    stop('steps', `Step ${step + 1}, ${stepNames[steps[step]!.kind]}: ${message}`, 'Correct the step, or leave it out', { step })
  const placed = equipment.map(({ from, members }): AfterSteps['placed'][number] => {
    const { one, plan, of } = source[from]!
    return { one, plan: { ...plan, members }, of: { ...of, members: members.map((m) => m.key) }, from }
  })
  const still = shape.kind === 'device-facts' ? [] : placed.filter((p) => p.plan.members.length > 0 && !p.plan.members.some((m) => moves(m.fill)))
  if (still.length > 0)
    stop('steps', `Of ${some(still.map((p) => p.plan.name))} only constants are left, which never speak`, 'Keep a member that a tag fills')
  const taking = stages[0]
  const grouping = shapeOf(shape).grouping(shape as never)
  if (taking && (grouping !== 'equipment' || shape.kind === 'sparkplug-b'))
    stop(
      'steps',
      `Step ${taking.step + 1}, ${stepNames[steps[taking.step]!.kind]}, works on one message about each equipment`,
      shape.kind === 'sparkplug-b'
        ? 'Births tell the values of the moment, which it has not seen: leave it out, or take another shape'
        : 'Take a shape with a message for each equipment, or leave the step out',
      { step: taking.step },
    )
  const split = steps.findIndex((s) => s.kind === 'split')
  if (split >= 0 && shape.kind === 'sparkplug-b')
    stop('steps', `Step ${split + 1}, Split: a device is one equipment, and its items would share its name`, 'Model the items as equipment', {
      step: split,
    })
  const named = lookups.map(({ step, ...lookup }): PlanLookup => {
    const name = world.rows?.sources.get(lookup.sourceId)
    if (name === undefined)
      stop('steps', `Step ${step + 1}, ${stepNames.record}: its source no longer exists, or gives no rows`, 'Choose a query or a JSON document', {
        step,
      })
    return { ...lookup, source: name ?? '' }
  })
  return { placed, gatesOf: equipment.map((e) => e.gates), tables, lookups: named, stages }
}

/** Messages with what they have to pass. */
export function gated({ steps = [] }: PublicationDraft, messages: PlanMessage[], gatesOf: readonly PlanGate[][], stop: Say): void {
  for (const m of messages) {
    const gates = gatesOf[m.equipment[0]!] ?? []
    if (gates.length === 0) continue
    if (m.equipment.length > 1 && gates.some((g) => g.kind === 'condition')) {
      const { step } = gates.find((g) => g.kind === 'condition')!
      stop(
        'steps',
        `Step ${step + 1}, ${stepNames[steps[step]!.kind]}: one message about many equipment cannot be kept for some of them`,
        'Take a shape with a message for each equipment',
        { step },
      )
      return
    }
    m.gates = gates
  }
}
