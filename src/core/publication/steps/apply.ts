import type { PlanEquipment, PlanGate, PlanMember, PlanStage } from '~/contract/publication'
import type { LookupTable, Step } from '~/contract/step'
import { some } from '../../address/some'
import { effects, workOf } from './effects'
import type { Line, Workings } from './line'

/** What is wrong with a step: all equipment for which it is. */
export interface StepProblem {
  step: number
  message: string
}

/** One equipment after all steps: which it began as, what is sent of it, and what its message has to pass. */
export interface Stepped {
  from: number
  members: PlanMember[]
  gates: PlanGate[]
}

export interface Applied {
  equipment: Stepped[]
  stages: PlanStage[]
  tables: LookupTable[]
  /** Of which source is not known here: its name stays empty. */
  lookups: Workings['lookups']
  problems: StepProblem[]
}

/** What people call a step by its kind. */
export const stepNames: Record<Step['kind'], string> = {
  keep: 'Keep if',
  drop: 'Drop if',
  repeats: 'Drop repeats',
  set: 'Set',
  rename: 'Rename',
  leave: 'Leave out',
  convert: 'Convert',
  lookup: 'Look up',
  record: 'Look up in a source',
  smooth: 'Smooth',
  bridge: 'Bridge gaps',
  split: 'Split',
  window: 'Gather over time',
  script: 'Script',
}

/** Which member a step is about, for people. */
const subject = (step: Step): string => ('members' in step ? step.members.join(', ') : 'member' in step ? step.member : '')

/** Equipment as it stands between two steps. */
export type Between = readonly Pick<Line, 'from' | 'members'>[]

/** Applies the steps of a publication to its equipment, one step after the other. `look` sees it before the first and after each. */
export function applySteps(steps: readonly Step[], equipment: readonly PlanEquipment[], look: (between: Between) => void = () => undefined): Applied {
  let lines: Line[] = equipment.map(({ name, members }, from) => ({ from, name, members, gates: [], before: [] }))
  const problems: StepProblem[] = []
  const work: Workings = { known: new Map(), tables: [], read: [], lookups: [], stages: [], say: () => undefined, did: () => undefined }
  look(lines)
  steps.forEach((step, n) => {
    const wrong = new Map<string, string[]>()
    let did = 0
    work.did = () => did++
    lines = lines.flatMap((line) => {
      work.say = (message) => wrong.set(message, [...(wrong.get(message) ?? []), line.name])
      return effects[step.kind](step as never, n, line, work) ?? [line]
    })
    const taking = workOf(step)
    if (taking) {
      work.stages.push({ step: n, work: taking })
      let place = 0
      for (const line of lines) line.members = line.members.map((m) => ({ ...m, fill: { kind: 'row', place: place++ } }))
    }
    for (const [message, names] of wrong) problems.push({ step: n, message: `${some(names)}: ${message}` })
    if (did === 0 && wrong.size === 0 && lines.length > 0) problems.push({ step: n, message: `No equipment has ${subject(step)} here` })
    look(lines)
  })
  // What came to a stage is known of each only where nothing was wrong.
  const whole = problems.length === 0
  const stages = whole
    ? work.stages.map(
        (stage, s): PlanStage => ({
          ...stage,
          equipment: lines.map((l) => l.before[s]!.members),
          gates: lines.map((l) => l.before[s]!.gates),
        }),
      )
    : []
  return {
    equipment: lines.map(({ from, members, gates }) => ({ from, members, gates })),
    stages,
    tables: work.tables,
    lookups: work.lookups,
    problems,
  }
}
