import {
  type Cursor,
  type DayCount,
  type DeliveryStore,
  Fenced,
  type FlushWrite,
  type SegmentWrite,
  type StoreTrouble,
} from '~/core/delivery/delivery-store'
import { Histogram } from '~/core/delivery/histogram'
import { highestOf } from '~/core/delivery/segment'
import { WrittenAccount } from '~/core/delivery/written'
import type { LeaseStore } from '~/engine/lease-keeper'
import type { Owner, Scheduler } from './scheduler'

/** What the database does just now. */
export type Mood = 'well' | 'away' | 'hangs' | 'full' | 'loses answers' | 'commits late'

const TAKE_OVER_MS = 7000
const HANG_MS = 8000
const TRIM_ROWS = 1000

/** A segment, when it was written, and when it went into the journal. */
type Written = SegmentWrite & { writtenAt: number; keptAt: number | null; hops: Uint8Array | null }

/** The database of a world. It outlives all processes. */
export class SimDatabase {
  readonly segments = new Map<string, Map<number, Written>>()
  readonly cursors = new Map<string, Cursor>()
  readonly accounts = new Map<number, WrittenAccount>()
  readonly positions = new Map<string, Uint8Array>()
  readonly births = new Map<string, number>()
  readonly days = new Map<string, DayCount>()
  private readonly latencies = new Map<string, Uint8Array>()
  flush = 0
  lease = { epoch: 0, holder: null as Owner | null, at: Number.NEGATIVE_INFINITY }
  mood: (owner: Owner) => Mood = () => 'well'
  onAppend: (destination: string, s: SegmentWrite, epoch: number) => void = () => undefined
  onFlush: () => void = () => undefined

  constructor(
    readonly scheduler: Scheduler,
    readonly random: () => number,
  ) {}

  /** Counts up when a copy is brought back: what was begun before ends with nothing done. */
  private generation = 0

  /** A copy of all that is in it; given back, it is as it was then, whoever is connected. */
  copy(): () => void {
    const { flush, lease } = this
    const kept = structuredClone({
      segments: this.segments,
      cursors: this.cursors,
      positions: this.positions,
      births: this.births,
      days: this.days,
      latencies: this.latencies,
    })
    const accounts = new Map([...this.accounts].map(([d, a]) => [d, a.copy()]))
    const { epoch, holder } = lease
    return () => {
      this.generation++
      for (const k of ['segments', 'cursors', 'positions', 'births', 'days', 'latencies'] as const) {
        const own = this[k] as Map<unknown, unknown>
        own.clear()
        for (const [id, v] of kept[k]) own.set(id, structuredClone(v))
      }
      this.accounts.clear()
      for (const [d, a] of accounts) this.accounts.set(d, a.copy())
      this.flush = flush
      this.lease = { epoch, holder, at: Number.NEGATIVE_INFINITY }
    }
  }

  /** One transaction of a process: it happens as a whole or not at all, and its answer arrives or does not. */
  transact<T>(owner: Owner, work: () => T): Promise<T> {
    const { scheduler } = this
    const mood = this.mood(owner)
    const { generation } = this
    const ms = 1 + this.random() * 6
    return new Promise<T>((done, failed) => {
      const answer = (then: () => void, after: number): void => {
        scheduler.in(after, then, owner)
      }
      const error = (message: string, code: string) => failed(Object.assign(new Error(message), { code }))
      const commit = (): { value: T } | { thrown: unknown } => {
        if (generation !== this.generation) return { thrown: Object.assign(new Error('Connection terminated'), { code: 'ECONNRESET' }) }
        try {
          return { value: work() }
        } catch (thrown) {
          return { thrown }
        }
      }
      if (mood === 'away') return answer(() => error('connect ECONNREFUSED', 'ECONNREFUSED'), ms)
      if (mood === 'full') return answer(() => error('could not extend file: No space left on device', '53100'), ms)
      if (mood === 'hangs') return answer(() => error('the database is silent for 8 s', ''), HANG_MS)
      if (mood === 'commits late') {
        scheduler.in(this.random() * 2 * HANG_MS, commit)
        return answer(() => error('the database is silent for 8 s', ''), HANG_MS)
      }
      // It commits at some moment on the way, whether the process that asked is still there or not.
      scheduler.in(ms * this.random(), () => {
        const result = commit()
        if (mood === 'loses answers' && this.random() < 0.3) return answer(() => error('Connection terminated', 'ECONNRESET'), ms)
        answer(() => ('value' in result ? done(result.value) : failed(result.thrown)), ms)
      })
    })
  }

  private demand(epoch: number): void {
    if (this.lease.epoch !== epoch) throw new Fenced()
  }

  store(owner: Owner, epoch: () => number): DeliveryStore {
    const tx = <T>(work: () => T) => this.transact(owner, work)
    return {
      append: (destination, s) => {
        const e = epoch()
        return tx(() => {
          this.demand(e)
          const own = this.segments.get(destination) ?? new Map<number, Written>()
          this.segments.set(destination, own)
          const there = own.get(s.segment)
          if (there && (there.ranges !== s.ranges || there.ordinal !== s.ordinal || there.rawBytes !== s.rawBytes)) throw new Fenced()
          if (there || s.segment <= (this.cursors.get(destination)?.countedSegment ?? 0)) return
          own.set(s.segment, { ...s, body: s.body.slice(), writtenAt: this.scheduler.now, keptAt: null, hops: null })
          this.onAppend(destination, s, e)
        })
      },
      readSegment: (destination, segment) =>
        tx(() => {
          const s = this.segments.get(destination)?.get(segment)
          return s ? { codec: s.codec, body: s.body.slice() } : null
        }),
      loadOutbox: (destination) =>
        tx(() => ({
          cursor: { ...(this.cursors.get(destination) ?? { segment: 1, done: 0, countedSegment: 0, ordinal: 0, announced: 0 }) },
          segments: [...(this.segments.get(destination)?.values() ?? [])]
            .filter((s) => s.keptAt === null)
            .sort((a, b) => a.segment - b.segment)
            .map(({ body, codec: _, keptAt: _k, hops: _h, writtenAt, ...s }) => ({
              ...s,
              bodyBytes: body.length,
              ageMs: this.scheduler.now - writtenAt,
            })),
        })),
      loadLedger: () =>
        tx(() => ({
          flush: this.flush,
          standings: new Map([...this.accounts].map(([d, a]) => [d, a.standing()])),
          given: highestOf(
            [...this.segments].flatMap(([d, own]) =>
              [...own.values()].filter((s) => s.segment > (this.cursors.get(d)?.countedSegment ?? 0)).map((s) => s.ranges),
            ),
          ),
          latencies: [...this.latencies].map(([k, h]) => {
            const [delivery, minute] = k.split(' ').map(Number)
            return { delivery: delivery!, minute: minute!, histogram: Histogram.decode(h) }
          }),
        })),
      flush: (w) => {
        const e = epoch()
        return tx(() => this.flushed(w, e))
      },
      loadPosition: (destination) => tx(() => this.positions.get(destination)?.slice() ?? null),
      loadDay: (destination) => tx(() => this.days.get(destination) ?? null),
      keepDay: (destination, d) =>
        tx(() => {
          this.days.set(destination, { ...d })
        }),
      journalBytes: (destination) => tx(() => this.journal(destination).reduce((sum, s) => sum + s.body.length, 0)),
      trimJournal: (destination, over) =>
        tx(() => {
          const gone = { rows: 0, bytes: 0, messages: 0 }
          for (const s of this.journal(destination).slice(0, TRIM_ROWS)) {
            if (this.scheduler.now - s.keptAt! <= over.ageMs && gone.bytes >= over.bytes) continue
            this.segments.get(destination)?.delete(s.segment)
            gone.rows++
            gone.bytes += s.body.length
            gone.messages += s.count
          }
          return gone
        }),
      nextBirth: (destination) =>
        tx(() => {
          const n = ((this.births.get(destination) ?? 255) + 1) % 256
          this.births.set(destination, n)
          return n
        }),
    }
  }

  /** What is in the journal of a destination, the oldest first. */
  journal(destination: string): Written[] {
    return [...(this.segments.get(destination)?.values() ?? [])].filter((s) => s.keptAt !== null).sort((a, b) => a.segment - b.segment)
  }

  private flushed(w: FlushWrite, epoch: number): void {
    this.demand(epoch)
    if (this.flush === w.number) return
    if (this.flush !== w.number - 1) throw new Fenced()
    this.flush = w.number
    for (const change of w.changes) {
      const account = this.accounts.get(change.delivery) ?? new WrittenAccount()
      this.accounts.set(change.delivery, account)
      account.write(change)
    }
    for (const p of w.positions) this.positions.set(p.destinationId, p.position.slice())
    for (const o of w.outboxes) {
      this.cursors.set(o.destinationId, { ...o.cursor })
      for (const n of o.remove) this.segments.get(o.destinationId)?.delete(n)
      for (const { segment, hops } of o.keep) {
        const s = this.segments.get(o.destinationId)?.get(segment)
        if (s) Object.assign(s, { keptAt: this.scheduler.now, hops })
      }
    }
    this.onFlush()
  }

  leaseOf(owner: Owner): LeaseStore {
    let epoch = 0
    return {
      get epoch() {
        return epoch
      },
      take: () =>
        this.transact(owner, () => {
          const { lease, scheduler } = this
          const free = lease.holder === null || !lease.holder.alive || scheduler.now - lease.at > TAKE_OVER_MS
          if (!free) return false
          lease.epoch = Math.max(lease.epoch + 1, Math.floor(scheduler.now))
          lease.holder = owner
          lease.at = scheduler.now
          epoch = lease.epoch
          return true
        }),
      confirm: () =>
        this.transact(owner, () => {
          if (this.lease.epoch !== epoch) return false
          this.lease.at = this.scheduler.now
          return true
        }),
      release: () =>
        this.transact(owner, () => {
          if (this.lease.epoch === epoch) this.lease.holder = null
        }),
      end: () => Promise.resolve(),
    }
  }
}

export function troubleOf(e: unknown): StoreTrouble {
  const { code = '', message = '' } = e as { code?: string; message?: string }
  return code === '53100' ? 'full' : /silent/.test(message) ? 'silent' : code.startsWith('ECONN') ? 'away' : 'failed'
}
