import type { Tag } from '~/contract/tag'
import type { Plan } from '~/core/tag/plan'
import type { Understood } from '~/core/tag/sheet'
import type { Problem } from '~/ui/Notes'
import type { Around, PlanningRequest, PlanningTask } from './planning.worker'

/** A plan with how its text was understood. */
export interface Planned {
  plan: Plan
  understood: Understood
  /** Names of all sheets of a workbook, and the one that was read. */
  sheets: string[]
  sheet: string
}

type Answer = { done: number; total: number } | Planned | { written: string | Uint8Array } | { problem: Problem }

/** Something that a person can do about. */
export class Refused extends Error {
  constructor(readonly problem: Problem) {
    super(problem.message)
  }
}

/** Runs one task in a worker of its own, which ends with it; stopping ends it at once. */
function inWorker(
  request: PlanningRequest,
  signal: AbortSignal,
  each: (done: number, total: number) => void,
): Promise<Exclude<Answer, { done: number } | { problem: Problem }>> {
  return new Promise((resolve, reject) => {
    const worker = new Worker(new URL('./planning.worker.ts', import.meta.url), { type: 'module' })
    const end = () => worker.terminate()
    signal.addEventListener('abort', () => {
      end()
      reject(new DOMException('stopped', 'AbortError'))
    })
    worker.onmessage = (e: MessageEvent<Answer>) => {
      const a = e.data
      if ('done' in a) return each(a.done, a.total)
      end()
      if ('problem' in a) reject(new Refused(a.problem))
      else resolve(a)
    }
    worker.onerror = (e) => {
      end()
      reject(new Refused({ message: e.message || 'The work could not be begun', hint: 'Load the page again' }))
    }
    worker.postMessage(request)
  })
}

const never = new AbortController().signal

export async function planInWorker(
  task: Exclude<PlanningTask, { do: 'write' }>,
  tags: readonly Tag[],
  around: Around,
  signal: AbortSignal,
  each: (done: number, total: number) => void,
): Promise<Planned> {
  return (await inWorker({ task, tags, around }, signal, each)) as Planned
}

export async function writeInWorker(
  task: Extract<PlanningTask, { do: 'write' }>,
  tags: readonly Tag[],
  around: Around,
): Promise<string | Uint8Array> {
  return ((await inWorker({ task, tags, around }, never, () => undefined)) as { written: string | Uint8Array }).written
}
