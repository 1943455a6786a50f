import type { Failure } from '~/contract/failure'
import { atPointer, parsePointer } from '~/core/source/json-leaf'
import { takeAs } from '~/core/source/payload'
import { Status } from '~/core/value/quality'
import type { Batch } from '../live/table'
import type { SourceSink, WantedTag } from './driver'

/** So many failed rounds in a row and the connection is begun anew, with its waits. */
const FAILS_MAX = 3

/**
 * Asks for a whole document again and again, one round at a time, and takes the tags out of it by their places. A round that
 * fails makes the tags bad with the reason; several in a row end the connection.
 */
export class DocumentPoller {
  private places: { tag: WantedTag; parts: string[] }[] = []
  private timer: NodeJS.Timeout | null = null
  private over = false
  private fails = 0
  private running: Promise<void> | null = null

  constructor(
    private readonly rateMs: number,
    private readonly fetchDocument: () => Promise<unknown>,
    private readonly explain: (e: unknown) => Failure,
    private readonly sink: SourceSink,
  ) {}

  setTags(tags: readonly WantedTag[]): void {
    this.places = tags.map((tag) => ({ tag, parts: parsePointer(tag.address) ?? ['\0'] }))
    if (this.timer) clearTimeout(this.timer)
    this.running ??= Promise.resolve()
    this.running = this.running.then(() => this.round())
  }

  private async round(): Promise<void> {
    if (this.over) return
    if (this.timer) clearTimeout(this.timer)
    const began = performance.now()
    try {
      const document = await this.fetchDocument()
      this.fails = 0
      this.sink.roundTrip(performance.now() - began)
      if (!this.over) this.deliver(document)
    } catch (e) {
      if (this.over) return
      const failure = this.explain(e)
      this.fails++
      this.fail(failure)
      if (this.fails >= FAILS_MAX) {
        this.over = true
        this.sink.down(failure)
        return
      }
    }
    if (this.over) return
    this.timer = setTimeout(
      () => {
        this.running = this.round()
      },
      Math.max(0, this.rateMs - (performance.now() - began)),
    )
  }

  private deliver(document: unknown): void {
    const now = Date.now()
    this.sink.document?.({ document, at: now })
    const batch: Batch = { handles: [], values: [], statuses: [], times: [] }
    for (const { tag, parts } of this.places) {
      const raw = atPointer(document, parts)
      const taken =
        raw === undefined
          ? { value: null, status: Status.nodeUnknown, note: `The answer has nothing at ${tag.address || 'the top'}` }
          : takeAs(raw, tag.dataType)
      batch.handles.push(tag.handle)
      batch.values.push(taken.value)
      batch.statuses.push(taken.status)
      batch.times.push(now)
      if (taken.note) (batch.notes ??= new Map()).set(tag.handle, { at: now, text: taken.note })
    }
    this.sink.values(batch)
  }

  private fail(failure: Failure): void {
    const now = Date.now()
    const handles = this.places.map((p) => p.tag.handle)
    const note = { at: now, text: `${failure.message}. ${failure.hint}`, code: failure.code }
    this.sink.mark(handles, Status.noCommunication, note)
    this.sink.document?.({ failure })
  }

  async stop(): Promise<void> {
    this.over = true
    if (this.timer) clearTimeout(this.timer)
    await this.running?.catch(() => undefined)
  }
}
