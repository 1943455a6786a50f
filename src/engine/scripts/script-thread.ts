// The thread in which scripts run. Whatever one does there, the engine's loop does not feel.
import { parentPort, workerData } from 'node:worker_threads'
import { Sandbox } from './sandbox'
import type { ScriptInput, ScriptOutcome, ScriptProblem } from './script'

export type ToScripts =
  | { kind: 'run'; id: number; key: string; code: string; input: ScriptInput }
  | { kind: 'check'; id: number; key: string; code: string }
export type FromScripts = { kind: 'ran'; id: number; outcome: ScriptOutcome } | { kind: 'checked'; id: number; problem: ScriptProblem | null }

const port = parentPort!
/** Which job it is at, for whoever watches. */
const at = new Int32Array((workerData as { at: SharedArrayBuffer }).at)
const say = (m: FromScripts) => port.postMessage(m)
const sandbox = Sandbox.open()

port.on('message', (job: ToScripts) => {
  // What goes wrong here is not the script's: the thread ends, and another one begins.
  void sandbox.then((box) => {
    Atomics.store(at, 0, job.id)
    const { key, code } = job
    if (job.kind === 'run') say({ kind: 'ran', id: job.id, outcome: box.run({ key, code }, job.input) })
    else say({ kind: 'checked', id: job.id, problem: box.check({ key, code }) })
  })
})
