import { CURSOR, type HttpSettings } from '~/contract/destinations/http'
import { type Failure, FailureError } from '~/contract/failure'
import type { WitnessView } from '~/core/delivery/account'
import { digest } from '~/core/delivery/digest'
import { pointed } from '~/core/source/json-leaf'
import { type Clock, sleep } from '../../clock/clock'
import { failureOfWeb } from '../../net/web-failure'
import type { FarEnd, FarSink, Position } from '../far-end'
import { sessionOf, type WebSession, type WebUser } from './access'
import { meaningOf, reasonIn } from './answers'
import { Pages, type Told, type WrittenPages } from './pages'

/** Octets of an answer at most. */
const ANSWER_MOST = 32 << 20
/** It is looked so often whether the server still keeps what it kept, by its last page that held something, ms. */
const PROVE_MS = 3000
/** Sightings that are not written yet; with more nothing is asked for. */
const UNWRITTEN_MOST = 20_000

/** What is written of how far it has come; the time by the wall clock, epoch ms. */
interface Written {
  since: number
  pages: WrittenPages
  proof: Proof | null
}

/** The last page that held something, and what came first on it: a server that tells another there has lost what it kept. */
interface Proof {
  cursor: string
  who: number
}

/** One thing that is kept there. */
export interface Kept {
  id: string | null
  /** Empty: it is not told. */
  path: string
  /** Null: it is not told. */
  digest: number | null
}

/** By what one is known again on another page: its id, else path and payload. */
const whoOf = ({ id, path, digest: seen }: Kept): number => digest(Buffer.from(id ?? `${path} ${seen}`))

/** Asks a server again and again what it keeps, page by page, from a cursor that is kept with the counts. It begins at the end. */
export class HttpFarEnd implements FarEnd {
  private pages = new Pages()
  /** Since when nothing that is kept there can pass unseen, monotonic ms; null: its end has not been found yet. */
  private since: number | null = null
  private session: WebSession | null = null
  private connectedAt: number | null = null
  /** All that was kept at that moment has come, if the server still keeps what it kept. */
  private endAt = Number.NEGATIVE_INFINITY
  /** It does: that was seen since. */
  private clearAt = Number.NEGATIVE_INFINITY
  private asked = false
  private provedAt = Number.NEGATIVE_INFINITY
  private askedAt: number | null = null
  private wanted: readonly string[] = []
  private changed = false
  private proof: Proof | null = null
  /** It may hold again what it told before: until its end is found nobody can say which copies are new. */
  private older = false
  private unwritten = 0
  private resume: () => void = () => undefined

  constructor(
    private readonly user: WebUser,
    private readonly s: HttpSettings,
    private readonly sink: FarSink,
    private readonly clock: Clock,
  ) {}

  restore(position: Position): void {
    if (!position || position === 'forget') return
    const { since, pages, proof } = JSON.parse(Buffer.from(position).toString('utf8')) as Written
    this.proof = proof
    this.since = since + this.clock.mono() - this.clock.wall()
    this.pages = new Pages(pages)
  }

  position(): Uint8Array | null {
    if (!this.changed || this.since === null) return null
    this.changed = false
    const written: Written = { since: this.since - this.clock.mono() + this.clock.wall(), pages: this.pages.written(), proof: this.proof }
    return Buffer.from(JSON.stringify(written))
  }

  prepare(): void {
    // Nothing changes there because somebody reads.
  }

  async connect(): Promise<void> {
    const session = sessionOf(this.user, this.clock)
    this.session = session
    this.endAt = this.clearAt = Number.NEGATIVE_INFINITY
    try {
      if (this.since === null) await this.toTheEnd(session)
      else await this.verify(session)
    } catch (e) {
      if (this.session === session) this.drop()
      throw e instanceof FailureError ? e : new FailureError({ ...failureOfWeb(e, this.url()), where: 'witness' }, 502)
    }
    if (this.session !== session) throw new FailureError(closedWhile, 502)
    this.connectedAt = this.clock.mono()
    void this.run(session)
  }

  private url(cursor = ''): URL {
    return new URL(this.s.readUrl.replaceAll(CURSOR, encodeURIComponent(cursor)))
  }

  /** What was kept before anybody watched is nobody's concern. */
  private async toTheEnd(session: WebSession): Promise<void> {
    for (;;) {
      const at = this.clock.mono()
      const { items, next } = await this.ask(session)
      this.pages.skip(items.length)
      if (items[0]) this.proof = { cursor: this.pages.cursor, who: whoOf(items[0]) }
      const more = next !== null && next !== this.pages.cursor
      if (more) this.pages.next(next)
      if (this.session !== session) throw new FailureError(closedWhile, 502)
      if (more) continue
      this.since = at
      this.changed = true
      return
    }
  }

  /** Messages wait for nothing but that all has come: a server that lost what it kept would tell of nothing new behind our cursor. */
  private async prove(session: WebSession): Promise<void> {
    this.asked = false
    this.provedAt = this.clock.mono()
    const { endAt } = this
    if (await this.verify(session)) this.clearAt = Math.max(this.clearAt, endAt)
  }

  /** Whether it still keeps what it kept; one that does not is read from its beginning, and what went there before is known by nobody. */
  private async verify(session: WebSession): Promise<boolean> {
    const { proof } = this
    const { items } = await this.ask(session, proof?.cursor)
    if (!proof || (items[0] && whoOf(items[0]) === proof.who)) return true
    this.pages = new Pages()
    this.proof = null
    this.since = this.clock.mono()
    this.older = true
    this.changed = true
    return false
  }

  private async ask(session: WebSession, cursor = this.pages.cursor): Promise<{ items: Kept[]; next: string | null }> {
    const url = this.url(cursor)
    this.askedAt = this.clock.mono()
    try {
      const headers = { accept: 'application/json', ...(await session.authorization()) }
      const answer = await session.web.send({ method: 'GET', url, headers, body: null, most: ANSWER_MOST })
      if (answer.status !== 200) {
        if (answer.status === 401) session.tokens?.forget()
        const { failure } = meaningOf(answer, url.pathname, reasonIn(answer.body.toString('utf8')))
        throw new FailureError({ ...failure, code: answer.status === 200 ? failure.code : `http.read-${answer.status}`, where: 'witness' }, 502)
      }
      return keptIn(answer.body, answer.cut, this.s)
    } finally {
      this.askedAt = null
    }
  }

  private async run(session: WebSession): Promise<void> {
    while (this.session === session) {
      while (this.unwritten > UNWRITTEN_MOST && this.session === session) {
        this.sink.hurry()
        await new Promise<void>((done) => {
          this.resume = done
        })
      }
      const at = this.clock.mono()
      let more = false
      try {
        const { items, next } = await this.ask(session)
        if (this.session !== session) return
        more = this.took(items, next, at)
        if (!more && (this.asked || at - this.provedAt > PROVE_MS)) await this.prove(session)
        if (this.session !== session) return
      } catch (e) {
        if (this.session !== session) return
        this.drop()
        this.sink.lost(e instanceof FailureError ? e.failure : { ...failureOfWeb(e, this.url()), where: 'witness' })
        return
      }
      if (!more) await sleep(this.clock, this.s.readEveryMs)
    }
  }

  /** @returns whether there may be more at once */
  private took(items: readonly Kept[], next: string | null, askedAt: number): boolean {
    const [first] = items
    if (first) this.proof = { cursor: this.pages.cursor, who: whoOf(first) }
    const told = this.pages.took(items.map(whoOf))
    const [mono, at] = [this.clock.mono(), this.clock.wall()]
    const more = next !== null && next !== this.pages.cursor
    if (more) this.pages.next(next)
    for (const [i, token] of told.entries()) {
      if (!token) continue
      const { id, path, digest: seen } = items[i]!
      this.unwritten++
      this.sink.sighting({ id, topic: path, digest: seen, at, mono, repeated: this.older, held: false, comesAgain: true, token })
    }
    if (!more) {
      this.endAt = askedAt
      this.pages.atEnd()
      this.older = false
    }
    return more
  }

  private drop(): void {
    const { session } = this
    this.session = null
    this.connectedAt = null
    this.askedAt = null
    session?.close()
    this.resume()
  }

  async watch(filters: readonly string[]): Promise<void> {
    this.wanted = [...filters]
  }

  release(): void {
    // All that is kept there is read, whosever it is.
  }

  counted(token: unknown): void {
    this.pages.counts(token as Told)
    this.changed = true
  }

  safe(): void {
    this.unwritten--
    if (this.unwritten <= UNWRITTEN_MOST) this.resume()
  }

  view(): WitnessView | null {
    if (this.connectedAt === null || this.since === null) return null
    const { since } = this
    return {
      connectedAt: this.connectedAt,
      clearAt: this.clearAt,
      // In what order a server tells what it keeps is its own concern.
      seenAt: Number.NEGATIVE_INFINITY,
      seenAnyAt: Number.NEGATIVE_INFINITY,
      coveredSince: () => (this.wanted.length > 0 ? since : Number.POSITIVE_INFINITY),
    }
  }

  probe(): void {
    this.asked = true
  }

  silentMs(): number {
    return this.askedAt === null ? 0 : this.clock.mono() - this.askedAt
  }

  close(): void {
    this.drop()
  }
}

const closedWhile: Failure = {
  code: 'http.closed',
  message: 'The reading was ended while it began',
  hint: 'Embrik tries again',
  where: 'witness',
}

const wrongForm = (message: string, hint: string) => new FailureError({ code: 'http.read-form', message, hint, where: 'witness' }, 502)

/** What an answer to a reading holds; throws when it is none. */
export function keptIn(body: Buffer, cut: boolean, s: HttpSettings): { items: Kept[]; next: string | null } {
  if (cut) throw wrongForm(`An answer of more than ${ANSWER_MOST >> 20} MB`, 'Have fewer told at once: many servers take a limit in the address')
  let json: unknown
  try {
    json = JSON.parse(body.toString('utf8'))
  } catch {
    throw wrongForm(
      `What is read back is no JSON: ${reasonIn(body.subarray(0, 400).toString('utf8')).slice(0, 80)}`,
      'Check the address that is read',
    )
  }
  const list = pointed(json, s.readItems)
  if (!Array.isArray(list))
    throw wrongForm(`What is read back has no list at ${s.readItems || 'its top'}`, 'Correct where what is kept lies in the answer')
  const next = pointed(json, s.readCursor)
  const cursor = typeof next === 'string' || typeof next === 'number' ? String(next) : null
  return { items: list.map((one) => keptOf(one, s)), next: cursor }
}

function keptOf(one: unknown, s: HttpSettings): Kept {
  const text = (pointer: string): string | null => {
    const value = pointer === '' ? undefined : pointed(one, pointer)
    return typeof value === 'string' ? value : typeof value === 'number' ? String(value) : null
  }
  const payload = text(s.readPayload)
  return {
    id: text(s.readId),
    path: (text(s.readPlace) ?? '').replace(/^\//, ''),
    digest: payload === null ? null : digest(Buffer.from(payload, s.readBase64 ? 'base64' : 'utf8')),
  }
}
