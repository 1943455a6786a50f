// The thread in which drafts are computed. Whatever it does there, the engine's loop does not feel.
import { parentPort, workerData } from 'node:worker_threads'
import { type Failure, FailureError } from '~/contract/failure'
import type { Noun } from '~/store/database'
import { openDatabase } from '~/store/database'
import { failureOf } from '../failure'
import { loadCompression } from './compress'
import { PreviewDesk, type Question, type Values } from './preview-desk'

export type ToThread =
  | { kind: 'question'; id: number; question: Question }
  | { kind: 'values'; id: number; values: Values }
  | { kind: 'changed'; nouns: Noun[] }
export type FromThread =
  | { kind: 'answer'; id: number; answer: string }
  | { kind: 'failed'; id: number; failure: Failure; status: number }
  | { kind: 'ask-values'; id: number; handles: number[] }

const port = parentPort!
const { url } = workerData as { url: string }
const say = (m: FromThread) => port.postMessage(m)
const asked = new Map<number, (v: Values) => void>()
let next = 1

const desk = new PreviewDesk(openDatabase(url, 2), (handles) => {
  const id = next++
  say({ kind: 'ask-values', id, handles: [...handles] })
  return new Promise((done) => asked.set(id, done))
})
const ready = loadCompression()

port.on('message', (m: ToThread) => {
  if (m.kind === 'changed') desk.changed(m.nouns)
  else if (m.kind === 'values') {
    asked.get(m.id)?.(m.values)
    asked.delete(m.id)
  } else
    ready
      .then(() => desk.answer(m.question))
      .then(
        (answer) => say({ kind: 'answer', id: m.id, answer: JSON.stringify(answer) }),
        (e: unknown) => say({ kind: 'failed', id: m.id, failure: failureOf(e, 'publication'), status: e instanceof FailureError ? e.status : 500 }),
      )
})
