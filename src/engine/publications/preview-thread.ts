// The thread in which drafts are computed. Whatever it does there, the engine's loop does not feel.
import { parentPort, workerData } from 'node:worker_threads'
import { type Failure, FailureError } from '~/contract/failure'
import type { PlanRows } from '~/contract/rows'
import type { LookupAnswer } from '~/core/rows/looked-up'
import type { Noun } from '~/store/database'
import { openDatabase } from '~/store/database'
import { failureOf } from '../failure'
import { loadCompression } from './compress'
import { PreviewDesk, type Question, type Values } from './preview-desk'
import type { RowNow } from './preview-rows'

export type ToThread =
  | { kind: 'question'; id: number; question: Question }
  | { kind: 'values'; id: number; values: Values }
  | { kind: 'row'; id: number; row: RowNow }
  | { kind: 'answers'; id: number; answers: LookupAnswer[] }
  | { kind: 'changed'; nouns: Noun[] }
export type FromThread =
  | { kind: 'answer'; id: number; answer: string }
  | { kind: 'failed'; id: number; failure: Failure; status: number }
  | { kind: 'ask-values'; id: number; handles: number[] }
  | { kind: 'ask-row'; id: number; asked: PlanRows }
  | { kind: 'ask-answers'; id: number; sourceIds: string[] }

const port = parentPort!
const { url } = workerData as { url: string }
const say = (m: FromThread) => port.postMessage(m)
let next = 1
/** What was asked of the engine and has no answer yet. */
class Asked<T> {
  private readonly open = new Map<number, (answer: T) => void>()
  ask(message: (id: number) => FromThread): Promise<T> {
    const id = next++
    say(message(id))
    return new Promise((done) => this.open.set(id, done))
  }
  came(id: number, answer: T): void {
    this.open.get(id)?.(answer)
    this.open.delete(id)
  }
}
const values = new Asked<Values>()
const rows = new Asked<RowNow>()
const answers = new Asked<LookupAnswer[]>()

const desk = new PreviewDesk(openDatabase(url, 2), {
  values: (handles) => values.ask((id) => ({ kind: 'ask-values', id, handles: [...handles] })),
  row: (asked) => rows.ask((id) => ({ kind: 'ask-row', id, asked })),
  answers: (sourceIds) => answers.ask((id) => ({ kind: 'ask-answers', id, sourceIds: [...sourceIds] })),
})
const ready = loadCompression()

port.on('message', (m: ToThread) => {
  if (m.kind === 'changed') desk.changed(m.nouns)
  else if (m.kind === 'values') values.came(m.id, m.values)
  else if (m.kind === 'row') rows.came(m.id, m.row)
  else if (m.kind === 'answers') answers.came(m.id, m.answers)
  else
    ready
      .then(() => desk.answer(m.question))
      .then(
        (answer) => say({ kind: 'answer', id: m.id, answer: JSON.stringify(answer) }),
        (e: unknown) => say({ kind: 'failed', id: m.id, failure: failureOf(e, 'publication'), status: e instanceof FailureError ? e.status : 500 }),
      )
})
