import type { Verdict } from '~/contract/live'
import type { SegmentWrite } from '~/core/delivery/delivery-store'
import { decodeSegment } from '~/core/delivery/segment'
import { verdictOf, verdicts } from '~/core/delivery/verdict'
import { qosOf } from '~/core/mqtt/qos'
import type { SimBroker } from './broker'
import type { SimDatabase } from './store'

/** What may lie between two clocks that look at one moment. */
const SLACK_MS = 500
/** An engine notes what it put into the database at least so often. */
const NOTED_MS = 1500

export interface Stored {
  delivery: number
  seq: number
  topic: string
  qos: 0 | 1 | 2
  key: string
  /** When it was stored, ms of the world. */
  at: number
}

export interface OracleView {
  database: SimDatabase
  broker: SimBroker
  /** Of a delivery: who reads its far end, and whether its messages carry ids. */
  of(delivery: number): { witness: string; sender: string; byId: boolean }
  keyOf(m: { delivery: number; seq: number; topic: string; payload: Uint8Array }): string
  /** Broker habits or losses that leave more than one truth. */
  ambiguous(): boolean
  /** Whether it went out more than once, as the engine of this moment knows. */
  wentTwice(m: Stored): boolean
  now(): number
  /** Whether the database came back from an older copy: what was there since it has forgotten. */
  wasRestored(): boolean
  /** Whether some engine ended: what it had seen and not written it took along. */
  engineDied(): boolean
  /** After how many ms messages of a delivery are late; null: that changed meanwhile. */
  lateAfter(delivery: number): number | null
  /** When what a payload tells came to be. */
  bornAt(payload: string): number
  problem(text: string): void
}

/** Sees everything, and knows what must hold. Written without the ledger's code, from what was stored, taken and handed out. */
export class Oracle {
  readonly stored = new Map<string, Stored>()
  private readonly highest = new Map<number, number>()
  private readonly missing = new Map<number, number>()
  private readonly told = new Map<number, number>()
  private flushes = 0
  /** Numbers that two messages had; no verdict is the truth of both. */
  private readonly twice = new Set<string>()
  private readonly restoredAt: number[] = []

  constructor(private readonly v: OracleView) {
    v.database.onAppend = (_destination, s) => this.appended(s)
    v.database.onFlush = () => this.flushed()
  }

  private appended(s: SegmentWrite): void {
    for (const m of decodeSegment(s.body)) {
      const id = `${m.delivery}.${m.seq}`
      const payload = m.payload as Uint8Array
      const key = this.v.keyOf({ delivery: m.delivery, seq: m.seq, topic: m.topic, payload })
      const there = this.stored.get(id)
      // What an older database has forgotten may be written to it again, as it was. What went into it in the last second before an
      // engine was killed that engine may not have noted; nor what it put there while it might not send, and nobody got.
      if (there?.key === key && this.v.wasRestored()) continue
      const unnoted = there !== undefined && this.restoredAt.length > 0 && (this.justBeforeRestore(there) || !this.arrived(there))
      if (unnoted) {
        this.highest.set(m.delivery, m.seq - 1)
        this.twice.add(id)
      } else if (there) this.v.problem(`number ${id} was given twice`)
      const high = this.highest.get(m.delivery) ?? 0
      if (m.seq <= high) this.v.problem(`number ${id} was stored after ${high}`)
      this.highest.set(m.delivery, m.seq)
      this.stored.set(id, { delivery: m.delivery, seq: m.seq, topic: m.topic, qos: qosOf[m.assurance], key, at: this.v.now() })
    }
  }

  /** Sums that hold at every moment, and no message called missing that is still to come. */
  private flushed(): void {
    const thorough = this.flushes++ % 25 === 0
    for (const [delivery, account] of this.v.database.accounts) {
      const { total } = account
      if (!total) continue
      if (total.storedThrough < (this.told.get(delivery) ?? 0)) this.v.problem(`delivery ${delivery}: produced fell to ${total.storedThrough}`)
      this.told.set(delivery, total.storedThrough)
      const rose = total.missing > (this.missing.get(delivery) ?? 0)
      this.missing.set(delivery, total.missing)
      if (!rose && !thorough) continue
      this.sums(delivery)
      if (rose) this.accused(delivery)
    }
  }

  private justBeforeRestore(m: Stored): boolean {
    return this.restoredAt.some((at) => m.at <= at && m.at > at - NOTED_MS)
  }

  private arrived(m: Stored): boolean {
    return this.v.broker.arrivals.some((a) => a.key === m.key)
  }

  restored(): void {
    this.restoredAt.push(this.v.now())
    this.told.clear()
    this.missing.clear()
  }

  sums(delivery: number): void {
    const account = this.v.database.accounts.get(delivery)!
    const total = account.total!
    const standing = account.standing()
    const given = verdicts.reduce((n, k) => n + total[k], 0)
    if (given !== standing.known.count) this.v.problem(`delivery ${delivery}: ${given} verdicts, ${standing.known.count} known`)
    if (given > total.storedThrough) this.v.problem(`delivery ${delivery}: ${given} verdicts of ${total.storedThrough} messages`)
    for (const k of ['produced', ...verdicts] as const) {
      let sum = 0
      for (const s of account.slices.values()) sum += s[k]
      const should = k === 'produced' ? total.storedThrough : total[k]
      if (sum !== should) this.v.problem(`delivery ${delivery}: ${k} is ${should}, on the wall ${sum}`)
      for (const s of account.slices.values()) if (s[k] < 0) this.v.problem(`delivery ${delivery}: ${k} is ${s[k]} in a slice`)
    }
  }

  private readonly acquitted = new Set<string>()

  private accused(delivery: number): void {
    const standing = this.v.database.accounts.get(delivery)!.standing()
    const { witness } = this.v.of(delivery)
    for (const [first, last] of standing.odd.missing)
      for (let seq = first; seq <= last; seq++) {
        const id = `${delivery}.${seq}`
        if (this.acquitted.has(id)) continue
        this.acquitted.add(id)
        const m = this.stored.get(id)
        if (!m) continue
        if (this.v.broker.pendingFor(witness, m.key)) this.v.problem(`${id} is called missing while it waits at the broker`)
        const arrivals = this.v.broker.arrivals.filter((a) => a.key === m.key)
        if (arrivals.length > 0 && !arrivals.some((a) => a.swallowed || a.routed.includes(witness)))
          this.v.problem(`${id} is called missing, and the witness had not subscribed when it came`)
      }
  }

  /** At rest: each message's verdict is what became of it. Gives how many ended how. */
  judge(): Record<string, number> {
    const { broker, database } = this.v
    const arrivals = new Map<string, typeof broker.arrivals>()
    for (const a of broker.arrivals) arrivals.set(a.key, [...(arrivals.get(a.key) ?? []), a])
    const sums: Record<string, number> = {}
    for (const delivery of this.highest.keys()) {
      const account = database.accounts.get(delivery)
      if (!account?.total) {
        this.v.problem(`delivery ${delivery} has no account`)
        continue
      }
      this.sums(delivery)
      const standing = account.standing()
      for (let seq = 1; seq <= standing.storedThrough; seq++) {
        const verdict = verdictOf(standing, seq) ?? 'never'
        sums[verdict] = (sums[verdict] ?? 0) + 1
        const m = this.stored.get(`${delivery}.${seq}`)
        if (!m) {
          if (verdict !== 'dropped' && !(verdict === 'unknown' && this.v.wasRestored()))
            this.v.problem(`${delivery}.${seq} was never stored and is ${verdict}`)
        } else if (!this.twice.has(`${delivery}.${seq}`)) this.one(m, verdict, arrivals.get(m.key) ?? [])
      }
      if ((this.highest.get(delivery) ?? 0) > standing.storedThrough)
        this.v.problem(`delivery ${delivery}: stored ${this.highest.get(delivery)}, told ${standing.storedThrough}`)
    }
    this.order()
    if ((sums.disordered ?? 0) > 0 || this.flushes % 5 === 0) this.disorder()
    return sums
  }

  private one(m: Stored, verdict: Verdict | 'waiting' | 'never', arrivals: SimBroker['arrivals']): void {
    const { broker } = this.v
    const { witness } = this.v.of(m.delivery)
    const id = `${m.delivery}.${m.seq}`
    const seen = (broker.copies.get(m.key) ?? []).filter((c) => c.client === witness && c.arrivedAt !== null).length
    const wrong = (why: string) => this.v.problem(`${id} (QoS ${m.qos}, taken ${arrivals.length} times, seen ${seen} times) is ${verdict}: ${why}`)
    if (verdict === 'waiting' || verdict === 'never') return wrong('it has no verdict')
    // What was pushed out with its first sending on the wire may have arrived: that it did not is known to nobody.
    if (m.qos > 0 && arrivals.length === 0 && verdict !== 'rejected' && verdict !== 'dropped' && verdict !== 'unknown')
      return wrong('it never reached the broker')
    if (verdict === 'dropped' && arrivals.length > 0 && !this.v.wasRestored()) return wrong('it reached the broker')
    if (['confirmed', 'late', 'disordered', 'doubled'].includes(verdict) && seen === 0) return wrong('nobody saw it')
    // From an older session a broker hands out again what it had handed out: of a message that went out twice nobody can tell that from a second copy.
    if (verdict === 'doubled' && seen < 2 && !(this.v.ambiguous() && this.v.wentTwice(m))) return wrong('it was seen once')
    if (verdict === 'altered') return wrong('nobody altered it')
    if (verdict === 'rejected' && !broker.disliked.has(m.topic) && m.qos <= broker.lowestQos && !broker.everSmall) return wrong('nobody refused it')
    const diedWithIt = m.qos === 0 && this.v.engineDied()
    if ((verdict === 'missing' || verdict === 'dropped' || verdict === 'rejected') && seen > 0 && !this.v.ambiguous() && !diedWithIt)
      return wrong('it was seen')
    if (verdict === 'missing' && m.qos > 0 && !arrivals.some((a) => a.swallowed || a.routed.includes(witness)))
      return wrong('the witness was never to have it')
    // A copy that the broker made itself and repeated after a lost link can't be told from a repetition; one at QoS 0 that a
    // witness saw and died is not repeated.
    const telling = this.v.of(m.delivery).byId && m.qos > 0 && arrivals.length > 1 && !this.v.ambiguous()
    if ((verdict === 'confirmed' || verdict === 'late') && seen > 1 && telling) wrong('it came twice')
    this.inTime(m, verdict, wrong)
    if (m.qos === 2 && arrivals.length > 1 && !this.v.ambiguous()) wrong('at QoS 2 the broker took it twice')
  }

  /** Late is what came later than the limit after it was made, by a clock that nobody sets. */
  private inTime(m: Stored, verdict: string, wrong: (why: string) => void): void {
    const limit = this.v.lateAfter(m.delivery)
    if (limit === null || this.v.engineDied() || this.v.ambiguous() || (verdict !== 'confirmed' && verdict !== 'late')) return
    const { witness } = this.v.of(m.delivery)
    const arrivals = (this.v.broker.copies.get(m.key) ?? []).flatMap((c) => (c.client === witness && c.arrivedAt !== null ? [c.arrivedAt] : []))
    const took = Math.min(...arrivals) - this.v.bornAt(m.key)
    if (verdict === 'late' && took < limit - SLACK_MS) wrong(`it took ${took} ms`)
    if (verdict === 'confirmed' && took > limit + SLACK_MS) wrong(`it took ${took} ms`)
  }

  /** A message that came after a later one of its topic is disordered, unless something worse holds. */
  private disorder(): void {
    if (this.v.ambiguous() || this.v.engineDied()) return
    const byTopic = new Map<string, { m: Stored; at: number }[]>()
    for (const m of this.stored.values()) {
      const { witness, byId } = this.v.of(m.delivery)
      const at = Math.min(
        ...(this.v.broker.copies.get(m.key) ?? []).flatMap((c) => (c.client === witness && c.arrivedAt !== null ? [c.arrivedAt] : [])),
      )
      if (!byId || !Number.isFinite(at)) continue
      const topic = `${m.delivery} ${m.topic}`
      byTopic.set(topic, [...(byTopic.get(topic) ?? []), { m, at }])
    }
    for (const list of byTopic.values()) {
      let newest = 0
      for (const { m } of list.sort((a, b) => a.at - b.at)) {
        const verdict = verdictOf(this.v.database.accounts.get(m.delivery)!.standing(), m.seq)
        if (m.seq < newest && (verdict === 'confirmed' || verdict === 'late'))
          this.v.problem(`${m.delivery}.${m.seq} came after ${newest} and is ${verdict}`)
        if (m.seq > newest && verdict === 'disordered') this.v.problem(`${m.delivery}.${m.seq} came in order and is disordered`)
        newest = Math.max(newest, m.seq)
      }
    }
  }

  /** First arrivals of a topic are in the order of their numbers. */
  private order(): void {
    if (this.v.ambiguous()) return
    const byKey = new Map([...this.stored.values()].map((m) => [m.key, m]))
    const newest = new Map<string, number>()
    const seen = new Set<string>()
    for (const a of this.v.broker.arrivals) {
      const m = byKey.get(a.key)
      if (!m || seen.has(a.key) || m.qos === 0) continue
      seen.add(a.key)
      const topic = `${m.delivery} ${m.topic}`
      const before = newest.get(topic) ?? 0
      if (m.seq < before && !this.v.broker.refusedOnce.has(a.key))
        this.v.problem(`${m.delivery}.${m.seq} reached the broker after ${before} of its topic`)
      newest.set(topic, Math.max(before, m.seq))
    }
  }
}
