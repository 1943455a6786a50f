import { Worker } from 'node:worker_threads'
import { FailureError, fail } from '~/contract/failure'
import type { Db, Noun } from '~/store/database'
import type { Cancel, Clock } from '../clock/clock'
import type { LiveTable } from '../live/table'
import { ofJournal } from '../outbox/journal-desk'
import type { Documents } from '../sources/documents'
import { PreviewDesk, type Question, valuesOf } from './preview-desk'
import { answersNow, rowNow } from './preview-rows'
import type { FromThread, ToThread } from './preview-thread'

/** So long one answer may take, ms. */
const ANSWER_MS = 20_000
/** So many may wait for theirs. */
const WAITING = 16
/** The most that its heap may hold, MB. */
const HEAP_MB = 1024
/** Nobody asked for so long: its model is let go, ms. */
const IDLE_MS = 600_000

/** What the engine lends. */
export interface Lent {
  table: LiveTable
  documents: Documents
}

/** Whoever answers questions about drafts, and about what has been. */
export interface Previews {
  /** The answer as JSON: what can be large is not taken apart and put together again on its way. */
  ask(q: Question): Promise<string>
  /** What was changed in the model. */
  changed(nouns: ReadonlySet<Noun>): void
  stop(): Promise<void>
}

/** Answers in this thread: for programs that have no bundle of the other. */
export function previewsHere(db: Db, { table, documents }: Lent): Previews {
  const desk = new PreviewDesk(db, {
    values: async (handles) => valuesOf(table, handles),
    row: async (asked) => rowNow(documents, asked),
    answers: async (sourceIds) => answersNow(documents, sourceIds),
  })
  return { ask: async (q) => JSON.stringify(await desk.answer(q)), changed: (nouns) => desk.changed(nouns), stop: async () => undefined }
}

function subject(q: Question): string {
  if (q.kind === 'compare') return 'Not all of it could be compared'
  return ofJournal(q) ? 'The journal could not be read' : 'The draft could not be computed'
}
const advice = (q: Question) =>
  ofJournal(q) || q.kind === 'compare' ? 'Choose one publication, or another time' : 'Take fewer equipment, or a smaller template'

interface Open {
  id: number
  question: Question
  done(answer: string): void
  failed(e: Error): void
}

/**
 * Answers in a thread of their own, one at a time. One that takes too long, or more memory than there is for it, ends with the
 * thread; the next question begins another.
 */
export class ThreadedPreviews implements Previews {
  private worker: Worker | null = null
  private readonly waiting: Open[] = []
  private now: Open | null = null
  private next = 1
  private stopDeadline: Cancel = () => undefined
  private stopIdle: Cancel = () => undefined

  constructor(
    private readonly program: URL | string,
    private readonly url: string,
    private readonly lent: Lent,
    private readonly clock: Clock,
    private readonly answerMs = ANSWER_MS,
  ) {}

  ask(question: Question): Promise<string> {
    if (this.waiting.length >= WAITING)
      return Promise.reject(fail(503, 'preview.busy', 'Many drafts are being looked at at this moment', 'It is tried again by itself', 'publication'))
    return new Promise((done, failed) => {
      this.waiting.push({ id: this.next++, question, done, failed })
      this.go()
    })
  }

  changed(nouns: ReadonlySet<Noun>): void {
    this.say({ kind: 'changed', nouns: [...nouns] })
  }

  private say(m: ToThread): void {
    this.worker?.postMessage(m)
  }

  private go(): void {
    if (this.now) return
    const next = this.waiting.shift()
    this.stopIdle()
    if (!next) {
      this.stopIdle = this.clock.after(IDLE_MS, () => this.end())
      return
    }
    this.now = next
    this.worker ??= this.begin()
    this.stopDeadline = this.clock.after(this.answerMs, () => {
      this.end()
      const seconds = Math.round(this.answerMs / 1000)
      this.over((o) => o.failed(fail(422, 'preview.too-long', `${subject(next.question)} within ${seconds} s`, advice(next.question), 'publication')))
    })
    this.say({ kind: 'question', id: next.id, question: next.question })
  }

  /** The present question has its answer: the next one's turn. */
  private over(tell: (o: Open) => void): void {
    const o = this.now
    if (!o) return
    this.stopDeadline()
    this.now = null
    tell(o)
    this.go()
  }

  private begin(): Worker {
    const worker = new Worker(this.program, { workerData: { url: this.url }, resourceLimits: { maxOldGenerationSizeMb: HEAP_MB } })
    worker.on('message', (m: FromThread) => {
      if (m.kind === 'ask-values') this.say({ kind: 'values', id: m.id, values: valuesOf(this.lent.table, m.handles) })
      else if (m.kind === 'ask-row') this.say({ kind: 'row', id: m.id, row: rowNow(this.lent.documents, m.asked) })
      else if (m.kind === 'ask-answers') this.say({ kind: 'answers', id: m.id, answers: answersNow(this.lent.documents, m.sourceIds) })
      else if (m.id !== this.now?.id) return
      else if (m.kind === 'answer') this.over((o) => o.done(m.answer))
      else this.over((o) => o.failed(new FailureError(m.failure, m.status)))
    })
    const gone = (words: string) => {
      if (this.worker !== worker) return
      this.worker = null
      this.over((o) => o.failed(fail(500, 'preview.failed', `${subject(o.question)}: ${words}`, advice(o.question), 'publication')))
    }
    worker.on('error', (e) => gone(e.message))
    worker.on('exit', () => gone('its thread ended'))
    worker.unref()
    return worker
  }

  private end(): void {
    const worker = this.worker
    this.worker = null
    void worker?.terminate()
  }

  async stop(): Promise<void> {
    this.stopDeadline()
    this.stopIdle()
    const worker = this.worker
    this.worker = null
    for (const o of [...(this.now ? [this.now] : []), ...this.waiting.splice(0)])
      o.failed(fail(503, 'engine.stops', 'The engine stops', 'It is tried again by itself', 'engine'))
    this.now = null
    await worker?.terminate()
  }
}
