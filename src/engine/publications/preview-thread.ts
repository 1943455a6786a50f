// The thread in which drafts are computed. Whatever it does there, the engine's loop does not feel.
import { parentPort, workerData } from 'node:worker_threads'
import { type Failure, FailureError } from '~/contract/failure'
import type { PlanRows } from '~/contract/rows'
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
  | { kind: 'changed'; nouns: Noun[] }
export type FromThread =
  | { kind: 'answer'; id: number; answer: string }
  | { kind: 'failed'; id: number; failure: Failure; status: number }
  | { kind: 'ask-values'; id: number; handles: number[] }
  | { kind: 'ask-row'; id: number; asked: PlanRows }

const port = parentPort!
const { url } = workerData as { url: string }
const say = (m: FromThread) => port.postMessage(m)
const asked = new Map<number, (v: Values) => void>()
const askedRows = new Map<number, (row: RowNow) => void>()
let next = 1

const desk = new PreviewDesk(openDatabase(url, 2), {
  values: (handles) => {
    const id = next++
    say({ kind: 'ask-values', id, handles: [...handles] })
    return new Promise((done) => asked.set(id, done))
  },
  row: (rows) => {
    const id = next++
    say({ kind: 'ask-row', id, asked: rows })
    return new Promise((done) => askedRows.set(id, done))
  },
})
const ready = loadCompression()

port.on('message', (m: ToThread) => {
  if (m.kind === 'changed') desk.changed(m.nouns)
  else if (m.kind === 'values') {
    asked.get(m.id)?.(m.values)
    asked.delete(m.id)
  } else if (m.kind === 'row') {
    askedRows.get(m.id)?.(m.row)
    askedRows.delete(m.id)
  } else
    ready
      .then(() => desk.answer(m.question))
      .then(
        (answer) => say({ kind: 'answer', id: m.id, answer: JSON.stringify(answer) }),
        (e: unknown) => say({ kind: 'failed', id: m.id, failure: failureOf(e, 'publication'), status: e instanceof FailureError ? e.status : 500 }),
      )
})
