import type { Failure } from '~/contract/failure'
import type { Condition } from '~/contract/live'
import type { Source } from '~/contract/source'
import type { Tag } from '~/contract/tag'
import type { PeerTime } from '~/core/proof/peer-time'
import type { Scalar } from '~/core/value/deadband'
import { Status } from '~/core/value/quality'
import type { Events } from '../events'
import { failureOf } from '../failure'
import { Rate } from '../live/rate'
import type { LiveTable } from '../live/table'
import { Scaler, wantedTag, writeScaled } from './conversion'
import type { Documents } from './documents'
import type { SourceConnection, SourceContext, SourceTarget, WantedTag } from './driver'
import { sourceDriver } from './registry'

/** How much of a new round trip goes into the one shown. */
const SMOOTH = 0.2

const SWITCHED_OFF: Failure = { code: 'source.off', message: 'It is switched off', hint: 'Switch it on under Sources', where: 'source' }

/** Keeps one source connected: opens it, feeds its tags, and comes back after every loss. */
export class SourceSupervisor {
  condition: Condition
  private connection: SourceConnection | null = null
  private tags: Tag[] = []
  private wanted: WantedTag[] = []
  private readonly scaler = new Scaler()
  private stopped = false
  private wake: (() => void) | null = null
  private readonly rate = new Rate()
  private last: number | null = null
  private roundTripMs: number | null = null
  private lastError: Condition['lastError'] = null
  private running: Promise<void> = Promise.resolve()
  /** What it connected by, or tried to, the last time. */
  private opened: SourceTarget | null = null

  constructor(
    readonly source: Source,
    /** Opens secrets and credentials anew for each try: they may have changed meanwhile. */
    private readonly target: () => Promise<SourceTarget>,
    private readonly ctx: SourceContext,
    private readonly table: LiveTable,
    private readonly events: Events,
    private readonly documents: Documents,
  ) {
    this.condition = {
      state: source.enabled ? 'starting' : 'off',
      reason: source.enabled ? 'connecting' : 'switched off',
      hint: '',
      since: Date.now(),
      rate: 0,
      last: null,
      roundTripMs: null,
      lastError: null,
    }
  }

  /** Whether it connects by just these credentials, or has not come to that yet. */
  connectsBy({ authority, credential }: SourceTarget): boolean {
    const { opened } = this
    return opened === null || JSON.stringify([opened.authority, opened.credential]) === JSON.stringify([authority, credential])
  }

  start(): void {
    if (this.source.enabled && !this.stopped) this.running = this.run()
  }

  present(): Condition {
    return { ...this.condition, rate: this.rate.perSecond(), last: this.last, roundTripMs: this.roundTripMs, lastError: this.lastError }
  }

  private set(state: Condition['state'], reason: string, hint = ''): void {
    if (state === 'trouble') this.lastError = { at: Date.now(), message: reason }
    if (this.condition.state === state && this.condition.reason === reason) return
    const since = state === this.condition.state ? this.condition.since : Date.now()
    this.condition = { ...this.condition, state, reason, hint, since }
  }

  private event(severity: 'good' | 'warning' | 'trouble', code: string, message: string, hint = ''): void {
    this.events.add({ severity, where: 'source', subjectId: this.source.id, subject: this.source.name, code, message, hint })
  }

  /** Which tags are read from now on; rates of sampling groups by their id, ms. */
  async setTags(tags: Tag[], groupRates: ReadonlyMap<string, number>): Promise<void> {
    const gone = new Set(this.tags.map((t) => t.handle))
    for (const t of tags) gone.delete(t.handle)
    for (const h of gone) this.table.forget(h)
    this.tags = tags
    this.wanted = tags.map((t) => wantedTag(t, groupRates))
    const { table } = this
    const again = this.scaler.setTags(tags, (h) => {
      const value = table.value[h]
      return (typeof value === 'number' || typeof value === 'bigint') && table.seen[h] !== 0
        ? { value, status: table.status[h]!, time: table.time[h]! }
        : null
    })
    if (again) table.apply(again)
    try {
      await this.connection?.setTags(this.wanted)
    } catch (e) {
      this.event('trouble', 'source.tags', `Tags could not be subscribed: ${failureOf(e).message}`, 'Embrik connects anew')
      this.lost(failureOf(e))
    }
  }

  /** What it told last of its own time; null: nothing, undefined: its kind tells none. */
  peerTime(): PeerTime | null | undefined {
    return this.connection ? (this.connection.peerTime ? this.connection.peerTime() : undefined) : null
  }

  /** Values that it computes itself move so many times as fast; gives how many do. */
  pace(handles: ReadonlySet<number>, multiple: number): number {
    return this.connection?.pace?.(handles, multiple) ?? 0
  }

  /** Writes to the device and gives what was read back; null when it can't, now or at all. */
  get writer(): ((tag: Tag, value: Scalar) => Promise<Scalar>) | null {
    const { connection } = this
    return connection?.write ? (tag, value) => writeScaled((raw) => connection.write!(tag, raw), tag.scaling, value) : null
  }

  private lost(failure: Failure): void {
    this.set('trouble', failure.message, failure.hint)
    this.documents.lost(this.source.id, failure)
    this.wake?.()
  }

  private async run(): Promise<void> {
    const { retryMs } = this.source.settings
    let wait = retryMs
    let attempts = 0
    let wasUp = false
    while (!this.stopped) {
      let ended = false
      const lost = new Promise<void>((resolve) => {
        this.wake = () => {
          ended = true
          resolve()
        }
      })
      try {
        this.opened = await this.target()
        const connection = await sourceDriver(this.source.kind).open(this.opened, this.ctx, {
          down: (failure) => this.lost(failure),
          values: (batch) => {
            this.rate.add(batch.handles.length)
            this.last = Date.now()
            this.scaler.apply(batch)
            this.table.apply(batch)
          },
          mark: (handles, status, note) => this.table.mark(handles, status, note),
          document: (answer) => {
            if ('failure' in answer) this.documents.lost(this.source.id, answer.failure)
            else this.documents.tell(this.source.id, answer.document, answer.at)
          },
          roundTrip: (ms) => {
            this.roundTripMs = this.roundTripMs === null ? ms : this.roundTripMs + SMOOTH * (ms - this.roundTripMs)
          },
        })
        if (this.stopped) {
          await connection.close()
          break
        }
        this.connection = connection
        await connection.setTags(this.wanted)
        if (!ended) {
          this.set('running', connection.summary)
          this.event('good', 'source.up', wasUp ? `up again after ${attempts} ${attempts === 1 ? 'try' : 'tries'}` : 'up')
          wait = retryMs
          attempts = 0
          wasUp = true
          await lost
        }
        if (!this.stopped) this.event('warning', 'source.lost', this.condition.reason, 'Embrik tries again by itself')
      } catch (e) {
        const failure = failureOf(e)
        if (attempts === 0) this.event('trouble', failure.code, failure.message, failure.hint)
        this.set('trouble', failure.message, failure.hint)
        this.documents.lost(this.source.id, failure)
      }
      await this.connection?.close().catch(() => undefined)
      this.connection = null
      this.markAll(wasUp ? Status.lastUsable : Status.noCommunication)
      if (this.stopped) break
      attempts++
      // A little early or late, so that many sources lost together do not all come back in one moment.
      const jittered = wait * (0.75 + Math.random() * 0.5)
      await new Promise<void>((resolve) => {
        const timer = setTimeout(resolve, jittered)
        this.wake = () => {
          clearTimeout(timer)
          resolve()
        }
      })
      wait = Math.min(wait * 2, retryMs * 8)
    }
  }

  async stop(): Promise<void> {
    this.stopped = true
    this.wake?.()
    await this.running
    this.documents.lost(this.source.id, SWITCHED_OFF)
    this.markAll(Status.lastUsable)
  }

  /** Marks all tags; an initial or held value already says that the device has not spoken. */
  private markAll(status: number): void {
    this.table.mark(
      this.tags.map((t) => t.handle).filter((h) => !this.table.stands(h)),
      status,
    )
  }
}
