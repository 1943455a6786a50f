import { promisify } from 'node:util'
import { gzip } from 'node:zlib'
import { type HttpSettings, webAddress } from '~/contract/destinations/http'
import type { Failure } from '~/contract/failure'
import { unpackProperties } from '~/core/delivery/properties'
import type { PeerTime } from '~/core/proof/peer-time'
import { pointed } from '~/core/source/json-leaf'
import type { Clock } from '../../clock/clock'
import { tryPort } from '../../net/steps'
import type { WebAnswer } from '../../net/web'
import { failureOfWeb } from '../../net/web-failure'
import { BatchLane, type BatchLimits, freshMemory, type LaneMemory } from '../batch-lane'
import type { Answer, DestinationConnection, DestinationSink, Outgoing, Remembered } from '../driver'
import type { WebSession } from './access'
import { meaningOf, reasonIn, retryAfter } from './answers'
import { bodyOf, headersOf, type Sending, unfitFor } from './request'

const KB = 1000
/** Octets of an answer that are read at most. */
const ANSWER_MOST = 2 << 20
/** After so long without an answer to anything it is looked whether the server is there, ms. */
const PROBE_MS = 15_000
const memoryKey = 'http lanes'
const zipped = promisify(gzip)

interface Memory extends LaneMemory<Sending> {
  way: string
}

type PathLane = BatchLane<Sending>

/**
 * Sends messages by requests: to one path one after the other, so that they stay in order, to several at once. One whose answer was
 * lost goes again as it was, under the same idempotency key, whether it holds one message or many.
 */
export class HttpSender implements DestinationConnection {
  readonly window: number
  readonly keepsTime = true
  private readonly base: URL
  private readonly most: BatchLimits
  private readonly lanes = new Map<string, PathLane>()
  private busy = 0
  private closed = false
  private heardAt: number
  private idle: (() => void)[] = []
  private stopTimer: (() => void) | null = null
  private readonly stopProbing: () => void

  private constructor(
    private readonly session: WebSession,
    private readonly s: HttpSettings,
    private readonly sink: DestinationSink,
    private readonly clock: Clock,
    private readonly memory: LaneMemory<Sending>,
  ) {
    this.window = s.window
    this.base = webAddress(s.url)!
    this.most = s.batch === 'one' ? { octets: Number.POSITIVE_INFINITY, count: 1 } : { octets: s.batchKb * KB, count: s.batchMost }
    this.heardAt = clock.mono()
    this.stopProbing = clock.every(PROBE_MS, () => void this.probe())
  }

  /** Begins when the server answers at all, and a token is there where one is needed. */
  static async begin(session: WebSession, s: HttpSettings, sink: DestinationSink, clock: Clock, remembered: Remembered): Promise<HttpSender> {
    await greet(session, webAddress(s.url)!)
    // What went elsewhere, or otherwise, cannot go again as it was.
    const way = `${s.url} ${s.batch}`
    const known = remembered.get(memoryKey) as Memory | undefined
    const memory: Memory = known?.way === way ? known : { ...freshMemory<Sending>(), way }
    remembered.set(memoryKey, memory)
    return new HttpSender(session, s, sink, clock, memory)
  }

  ready(): boolean {
    return true
  }

  peerTime(): PeerTime | null {
    return this.session.web.told
  }

  unfit({ envelope }: Outgoing): Failure | null {
    return unfitFor(envelope)
  }

  send(m: Outgoing, answer: (a: Answer) => void): void {
    const { topic, payload, properties } = m.envelope
    // What differs in its headers goes in requests of its own.
    const place = `${topic} ${properties}`
    const lane = this.lanes.get(place) ?? new BatchLane<Sending>(place, this.memory)
    this.lanes.set(place, lane)
    if (lane.has(m.ordinal)) return answer({ kind: 'has' })
    if (m.alone) lane.dissolve()
    const octets = typeof payload === 'string' ? Buffer.from(payload) : payload
    const record: Sending = { path: topic, payload: octets, beside: unpackProperties(properties), id: m.id }
    lane.add({ ordinal: m.ordinal, record, octets: octets.length + 1, answer, alone: m.alone }, this.clock.mono())
    this.pump()
  }

  /** Makes the requests that are due, as many at once as may be. */
  private pump(): void {
    const now = this.clock.mono()
    const pace = { lingerMs: this.s.batch === 'one' ? 0 : this.s.lingerMs, most: this.most }
    let wait = false
    for (const [place, lane] of this.lanes) {
      if (this.closed || this.busy >= this.s.parallel) return
      if (lane.due(now, pace)) {
        // Whose turn it was is the last the next time.
        this.lanes.delete(place)
        this.lanes.set(place, lane)
        void this.request(lane)
      } else if (lane.flying === null && lane.waiting.length > 0) wait = true
      else if (lane.flying === null) this.lanes.delete(place)
    }
    if (wait)
      this.stopTimer ??= this.clock.after(Math.max(1, this.s.lingerMs), () => {
        this.stopTimer = null
        this.pump()
      })
  }

  private async request(lane: PathLane): Promise<void> {
    this.busy++
    const sent = lane.take(this.most).entries.map(({ record }) => record)
    const url = urlOf(this.base, sent[0]!.path)
    try {
      const authorization = await this.session.authorization()
      if (this.closed) return
      const answer = await this.sent(url, sent, authorization).catch((e: unknown) => this.lost(lane, url, e))
      if (answer && !this.closed) this.landed(lane, answer)
    } catch (e) {
      // Nothing went out: who we are cannot be said.
      if (!this.closed) this.notNow(lane, lane.failed(this.clock.mono()), { kind: 'later', failure: failureOfWeb(e, url) })
    } finally {
      this.busy--
      if (this.busy === 0) for (const done of this.idle.splice(0)) done()
    }
    this.pump()
  }

  /** One request, and what a redirect within the same place makes of it. */
  private async sent(url: URL, sent: readonly Sending[], authorization: Record<string, string>): Promise<WebAnswer> {
    const { batch, compression } = this.s
    const plain = bodyOf(sent, batch)
    const body = compression === 'gzip' ? await zipped(plain) : plain
    const headers = { ...headersOf(sent, batch), ...(compression === 'gzip' && { 'content-encoding': 'gzip' }), ...authorization }
    const method = sent[0]!.beside.how ?? 'POST'
    const answer = await this.session.web.send({ method, url, headers, body, most: ANSWER_MOST })
    const to = this.s.redirects && (answer.status === 307 || answer.status === 308) ? (answer.headers.location ?? '') : ''
    if (to === '' || !URL.canParse(to, url)) return answer
    const next = new URL(to, url)
    return next.origin === url.origin ? this.session.web.send({ method, url: next, headers, body, most: ANSWER_MOST }) : answer
  }

  /** Nobody knows whether it arrived: it goes again as it was, over a connection that is made anew. */
  private lost(lane: PathLane, url: URL, e: unknown): null {
    if (this.closed) return null
    lane.unknown(this.clock.mono())
    this.close()
    this.sink.down(failureOfWeb(e, url))
    return null
  }

  private landed(lane: PathLane, answer: WebAnswer): void {
    const now = this.clock.mono()
    this.heardAt = now
    const flown = lane.flying ?? []
    const [first] = flown
    const place = `/${first?.record.path.replace(/^\//, '').slice(0, 200) ?? ''}`
    const text = answer.body.toString('utf8')
    const { meaning, failure } = meaningOf(answer, place, reasonIn(text))
    if (meaning === 'has') return this.has(lane, answer, text, place)
    if (meaning === 'split' && flown.length > 1) return lane.apart(now)
    if (meaning === 'split' || meaning === 'refused') {
      const gone = lane.refused(now)
      for (const { answer: tell } of gone) tell({ kind: 'refused', failure })
      return
    }
    if (meaning === 'login') this.session.tokens?.forget()
    const later: Answer = {
      kind: 'later',
      failure,
      waitMs: retryAfter(answer.headers, this.sink.wall()),
      ...(meaning === 'later' && { place: true }),
    }
    // A server that failed may have kept it all the same: it goes again as it was.
    const again = answer.status >= 500 || answer.status === 408 ? lane.unknown(now) : lane.failed(now)
    this.notNow(lane, again, later)
  }

  /** It has them; or says of each by itself whether it does. */
  private has(lane: PathLane, answer: WebAnswer, text: string, place: string): void {
    const now = this.clock.mono()
    const flown = lane.flying ?? []
    const each = this.s.batch !== 'one' && this.s.answersAt !== '' ? this.answersIn(text, flown.length) : null
    if (!each) {
      for (const { answer: tell } of lane.kept(now)) tell({ kind: 'has' })
      return
    }
    const said = new Map(
      flown.map(({ ordinal }, i) => [
        ordinal,
        meaningOf({ status: each[i]!.status, headers: {} }, `${place}, ${i + 1} of ${flown.length}`, each[i]!.reason),
      ]),
    )
    for (const { ordinal, answer: tell } of lane.kept(now, (o) => said.get(o)?.meaning === 'has')) {
      const { meaning, failure } = said.get(ordinal)!
      if (meaning === 'has') tell({ kind: 'has' })
      else if (meaning === 'refused' || meaning === 'split') tell({ kind: 'refused', failure })
      else tell({ kind: 'later', failure, place: true, waitMs: retryAfter(answer.headers, this.sink.wall()) })
    }
  }

  /** What the answer says of each, in their order; null: it does not. */
  private answersIn(text: string, count: number): { status: number; reason: string }[] | null {
    let list: unknown
    try {
      list = pointed(JSON.parse(text), this.s.answersAt)
    } catch {
      return null
    }
    if (!Array.isArray(list) || list.length !== count) return null
    const said = list.map((one) => {
      const reason = pointed(one, this.s.answerReason)
      const words = reason === undefined || reason === null ? '' : reasonIn(typeof reason === 'string' ? reason : JSON.stringify(reason))
      return { status: Number(pointed(one, this.s.answerStatus)), reason: words }
    })
    // What says nothing of a status says nothing of them.
    return said.every(({ status }) => Number.isInteger(status) && status >= 200 && status < 600) ? said : null
  }

  /** What was sent and what waits behind it goes later; of all paths where the server takes nothing. */
  private notNow(lane: PathLane, flown: readonly { answer(a: Answer): void }[], later: Extract<Answer, { kind: 'later' }>): void {
    const behind = later.place ? [lane] : [...this.lanes.values()]
    for (const { answer } of [...flown, ...behind.flatMap((l) => l.clear())]) answer(later)
  }

  heard(): Promise<void> {
    return this.busy === 0 || this.closed ? Promise.resolve() : new Promise((done) => this.idle.push(done))
  }

  /** Whether the server is there, while nothing is sent. */
  private async probe(): Promise<void> {
    if (this.closed || this.busy > 0 || this.clock.mono() - this.heardAt < PROBE_MS) return
    try {
      await tryPort(this.base.hostname.replace(/^\[|\]$/g, ''), portOf(this.base))
    } catch (e) {
      if (this.closed || this.busy > 0) return
      this.close()
      this.sink.down(failureOfWeb(e, this.base))
    }
  }

  close(): void {
    if (this.closed) return
    this.closed = true
    this.stopTimer?.()
    this.stopProbing()
    for (const lane of this.lanes.values()) lane.unknown(this.clock.mono())
    this.session.close()
    for (const done of this.idle.splice(0)) done()
  }
}

export const portOf = (url: URL): number => Number(url.port || (url.protocol === 'https:' ? 443 : 80))

/** A path of a message under the address of its destination. */
export function urlOf(base: URL, path: string): URL {
  return new URL(`${base.origin}${base.pathname.replace(/\/$/, '')}/${path.replace(/^\//, '')}`)
}

/** Asks what the server can do (RFC 9110 9.3.7), which changes nothing: whatever it answers, it is there. */
export async function greet(session: WebSession, base: URL): Promise<WebAnswer> {
  const authorization = await session.authorization()
  return session.web.send({ method: 'OPTIONS', url: base, headers: { accept: '*/*', ...authorization }, body: null, most: 64_000 })
}
