import { fail } from '~/contract/failure'
import { FOLLOWED_MS, type FollowedTag, JOURNAL_PAGE, type JournalMessage, type JournalPage, type JournalWhole, LATEST } from '~/contract/journal'
import type { Envelope } from '~/core/delivery/envelope'
import { decodeHops, type Hops } from '~/core/delivery/hops'
import { decodeSegment, parseRanges } from '~/core/delivery/segment'
import { carriersOf, mayBe } from '~/core/proof/origins'
import type { Db } from '~/store/database'
import {
  firstSegmentAfter,
  nextVersionAfter,
  planAt,
  rangesFrom,
  type StoredSegment,
  segmentOf,
  segmentsBefore,
  segmentsFrom,
  sliceOf,
} from '~/store/journal'
import { log, wordsOf } from '../log'
import { octets } from '../publications/compress'
import { payloadOf, SHOWN_MAX } from '../publications/read-payload'
import type { Packing } from './packing'

/** Asks for a page of what some lanes were given, the newest first. */
export interface JournalPageQuestion {
  kind: 'journal-page'
  lanes: readonly string[]
  /** Only of these; null: of any. */
  deliveries: readonly number[] | null
  text: string
  /** Stored until then, epoch ms. */
  until: number | null
  before: string | null
  payloads: boolean
}

/** Asks for one message whole. */
export interface JournalMessageQuestion {
  kind: 'journal-message'
  lanes: readonly string[]
  delivery: number
  seq: number
  /** The row in which it is said to stand. */
  segment: number | null
}

/** Asks in which message of each delivery the value under a handle went out that it had at a moment. */
export interface JournalFollowQuestion {
  kind: 'journal-follow'
  handle: number
  /** Epoch ms. */
  since: number
  of: readonly { lane: string; delivery: number }[]
}

export type JournalQuestion = JournalPageQuestion | JournalMessageQuestion | JournalFollowQuestion
export const ofJournal = (q: { kind: string }): q is JournalQuestion => q.kind.startsWith('journal-')

/** What the database knows of a message; whose it is and what became of it the engine adds. */
export type Found = Omit<JournalMessage, 'publicationId' | 'verdict'> & { payload?: string }
export type FoundPage = Pick<JournalPage, 'next' | 'lookedTo'> & { messages: Found[] }
export type FoundFollowed = Pick<FollowedTag, 'members' | 'shared' | 'looked'> & { message: Found | null }
export type FoundWhole = Found & Pick<JournalWhole, 'message' | 'octets64' | 'version'>

/** Rows that are read at once, and looked through for one page at the most; and octets: a second of work, since others wait for the thread. */
const ROWS = 10
/** Rows that hold few messages are read so many at once. */
const SMALL_ROWS = 100
const SMALL_OCTETS = 20_000
const ROWS_MOST = 2000
const OCTETS_MOST = 32_000_000
/** A page with payloads ends beyond so many octets of them. */
const PAGE_OCTETS = 4_000_000
/** The clocks of engine and database differ by no more than this, ms, where a message is looked for by time. */
const CLOCKS_MS = 120_000
/** What was produced is looked for among what was stored so much later at the most, ms: the database may have been away. */
const LATE_MS = 3_600_000

interface Item {
  envelope: Envelope
  hops: Hops | null
  index: number
}

/** By lane the place before which the next page begins: a row, and how many of its messages from the first on are still to come. */
type Places = Record<string, [segment: number, left: number]>

function placesOf(text: string): Places {
  try {
    const whole = (p: unknown) => Array.isArray(p) && p.length === 2 && p.every((n) => Number.isSafeInteger(n) && n >= 0)
    const entries = Object.entries(JSON.parse(text) as Places).filter(([, p]) => whole(p))
    return Object.fromEntries(entries)
  } catch {
    throw fail(422, 'journal.place', 'This is no place in the journal', 'Begin at its first page', 'destination')
  }
}

/** One lane, read from its newest message to the oldest. */
class LaneReader {
  private rows: StoredSegment[] = []
  private items: Item[] = []
  private row: StoredSegment | null = null
  looked = 0
  octets = 0
  ended = false

  constructor(
    private readonly db: Db,
    private readonly packing: Packing,
    readonly lane: string,
    private readonly deliveries: readonly number[] | null,
    private place: [segment: number, left: number],
  ) {}

  /** Where the next page begins. */
  get next(): [number, number] {
    return this.row ? [this.row.segment, this.items.length] : this.place
  }

  /** When what comes next was stored; null: nothing comes. */
  async peek(): Promise<number | null> {
    while (this.items.length === 0) {
      this.row = null
      if (this.rows.length === 0 && !(await this.more())) return null
      await this.take(this.rows.shift()!)
    }
    return this.row!.storedAt
  }

  /** The next one; `peek` has said that there is one. */
  shift(): { found: Found; envelope: Envelope } {
    const item = this.items.pop()!
    const row = this.row!
    if (this.items.length === 0) this.place = [row.segment, 0]
    return { found: foundOf(item, this.lane, row), envelope: item.envelope }
  }

  private async more(): Promise<boolean> {
    if (this.ended) return false
    const { db, lane, deliveries, place } = this
    // The row that was begun is read again.
    const small = this.looked > 0 && this.octets / this.looked < SMALL_OCTETS
    this.rows = await segmentsBefore(db, lane, place[0] + (place[1] > 0 ? 1 : 0), deliveries, small ? SMALL_ROWS : ROWS)
    this.ended = this.rows.length === 0
    return !this.ended
  }

  private async take(row: StoredSegment): Promise<void> {
    this.row = row
    this.looked++
    this.octets += row.body.length
    const left = row.segment === this.place[0] ? this.place[1] : row.count
    this.items = (await itemsOf(this.packing, row)).slice(0, left)
    this.place = [row.segment, 0]
  }
}

function foundOf({ envelope: e, hops, index }: Item, lane: string, row: StoredSegment): Found {
  return {
    delivery: e.delivery,
    seq: e.seq,
    topic: e.topic,
    octets: octets(e.payload).length,
    producedAt: e.producedAt,
    deviceAt: e.deviceAt,
    storedAt: row.storedAt,
    lane,
    segment: row.segment,
    index,
    hops,
  }
}

/** The messages of a row; none of one that is damaged, which the log tells. */
async function itemsOf(packing: Packing, row: StoredSegment): Promise<Item[]> {
  try {
    const envelopes = decodeSegment(row.codec === 1 ? await packing.unpack(row.body) : row.body)
    const hops = row.hops && decodeHops(row.hops, envelopes.length)
    return envelopes.map((envelope, index) => ({ envelope, hops: hops?.[index] ?? null, index }))
  } catch (e) {
    log('warn', 'journal', `segment ${row.segment} cannot be read: ${wordsOf(e)}`)
    return []
  }
}

/** Reads in the rows of outboxes and journals, in whatever thread it is made. */
export class JournalDesk {
  constructor(
    private readonly db: Db,
    private readonly packing: Packing,
  ) {}

  answer(q: JournalQuestion): Promise<FoundPage | FoundWhole | FoundFollowed[]> {
    if (q.kind === 'journal-follow') return this.followed(q)
    return q.kind === 'journal-page' ? this.page(q) : this.whole(q)
  }

  /** What was produced of a delivery in a span of time (epoch ms), in order. */
  async *produced(lane: string, delivery: number, from: number, to: number): AsyncGenerator<Envelope> {
    for await (const { envelope } of this.producedWithHops(lane, delivery, from, to)) yield envelope
  }

  /** The same, with when each came past the hops; null: it waits, or nobody kept that. */
  async *producedWithHops(lane: string, delivery: number, from: number, to: number): AsyncGenerator<{ envelope: Envelope; hops: Hops | null }> {
    for await (const { row, items } of this.rowsFrom(lane, delivery, from)) {
      for (const { envelope: e, hops } of items)
        if (e.delivery === delivery && e.producedAt >= from && e.producedAt <= to) yield { envelope: e, hops }
      if (row.storedAt > to + LATE_MS) return
    }
  }

  /** Rows that hold messages of a delivery which may have been produced since a moment (epoch ms), the oldest first. */
  private async *rowsFrom(lane: string, delivery: number, from: number): AsyncGenerator<{ row: StoredSegment; items: Item[] }> {
    let next = await firstSegmentAfter(this.db, lane, from - CLOCKS_MS)
    for (;;) {
      const rows = await segmentsFrom(this.db, lane, next, [delivery], ROWS)
      for (const row of rows) yield { row, items: await itemsOf(this.packing, row) }
      const last = rows.at(-1)
      if (!last) return
      next = last.segment + 1
    }
  }

  private async followed({ of, handle, since }: JournalFollowQuestion): Promise<FoundFollowed[]> {
    const out: FoundFollowed[] = []
    const left = { rows: ROWS_MOST, octets: OCTETS_MOST }
    for (const { lane, delivery } of of) out.push(await this.followedBy(lane, delivery, handle, since, left))
    return out
  }

  /** The first message of a delivery that was produced since a moment and carries what is read under a handle; `left`: so much is read at the most. */
  private async followedBy(
    lane: string,
    delivery: number,
    handle: number,
    since: number,
    left: { rows: number; octets: number },
  ): Promise<FoundFollowed> {
    const to = since + FOLLOWED_MS
    let carriers = await this.carriersAt(delivery, handle, since)
    const spent = () => left.rows <= 0 || left.octets <= 0
    for await (const { row, items } of this.rowsFrom(lane, delivery, since)) {
      if (spent()) break
      for (const item of items) {
        const { envelope: e } = item
        if (e.delivery !== delivery || e.producedAt < since || e.producedAt > to) continue
        if (e.producedAt >= carriers.until) carriers = await this.carriersAt(delivery, handle, e.producedAt)
        const carrier = carriers.all.find((c) => mayBe(c.place, e.topic))
        if (carrier) return { message: foundOf(item, lane, row), members: carrier.members, shared: carrier.shared, looked: true }
      }
      left.rows--
      left.octets -= row.body.length
      if (row.storedAt > to + LATE_MS) break
    }
    // Before its first version nothing carried it: what does now is named.
    const { members } = carriers.all.length > 0 ? carriers : await this.carriersAt(delivery, handle, LATEST)
    return { message: null, members, shared: false, looked: !spent() }
  }

  /** Which messages carry it by the version that was live at a moment, and when the next one followed. */
  private async carriersAt(delivery: number, handle: number, at: number) {
    const plan = await planAt(this.db, delivery, at)
    const until = (await nextVersionAfter(this.db, delivery, at)) ?? Number.POSITIVE_INFINITY
    const all = plan ? carriersOf(plan, handle) : []
    return { all, until, members: [...new Set(all.flatMap((c) => c.members))] }
  }

  private async page(q: JournalPageQuestion): Promise<FoundPage> {
    const { until } = q
    const places = q.before === null ? {} : placesOf(q.before)
    const readers: LaneReader[] = []
    for (const lane of q.lanes) {
      const begin = until === null ? Number.MAX_SAFE_INTEGER : await firstSegmentAfter(this.db, lane, until)
      readers.push(new LaneReader(this.db, this.packing, lane, q.deliveries, places[lane] ?? [begin, 0]))
    }
    const messages: Found[] = []
    const deliveries = q.deliveries && new Set(q.deliveries)
    let lookedTo: number | null = null
    let size = 0
    let complete = false
    while (messages.length < JOURNAL_PAGE && size < PAGE_OCTETS) {
      const reader = await newest(readers)
      complete = reader === null
      if (!reader || sumOf(readers, 'looked') > ROWS_MOST || sumOf(readers, 'octets') > OCTETS_MOST) break
      const { found, envelope } = reader.shift()
      lookedTo = found.storedAt
      if ((deliveries && !deliveries.has(found.delivery)) || !found.topic.includes(q.text)) continue
      if (q.payloads) {
        found.payload = Buffer.from(octets(envelope.payload)).toString('base64')
        size += found.payload.length
      }
      messages.push(found)
    }
    const next = complete ? null : JSON.stringify(Object.fromEntries(readers.map((r) => [r.lane, r.next])))
    return { messages, next, lookedTo }
  }

  private async whole(q: JournalMessageQuestion): Promise<FoundWhole> {
    for (const lane of q.lanes) {
      const segment = q.segment ?? (await this.segmentOf(lane, q.delivery, q.seq))
      const row = segment === null ? null : await segmentOf(this.db, lane, segment)
      if (!row) continue
      const item = (await itemsOf(this.packing, row)).find(({ envelope: e }) => e.delivery === q.delivery && e.seq === q.seq)
      if (!item) continue
      const plan = await planAt(this.db, q.delivery, item.envelope.producedAt)
      const raw = octets(item.envelope.payload)
      return {
        ...foundOf(item, lane, row),
        message: payloadOf(item.envelope, plan),
        octets64: Buffer.from(raw.subarray(0, SHOWN_MAX)).toString('base64'),
        version: plan?.number ?? null,
      }
    }
    const hint = 'It is older than the journal reaches, or it was never stored; its verdict stands in the ledger'
    throw fail(404, 'journal.gone', `Message no. ${q.seq} is not in the journal`, hint, 'destination')
  }

  /** The row that holds a number of a delivery, by when it was produced; null: there is none. */
  private async segmentOf(lane: string, delivery: number, seq: number): Promise<number | null> {
    const slice = await sliceOf(this.db, delivery, seq)
    let from = slice === null ? 0 : await firstSegmentAfter(this.db, lane, slice - CLOCKS_MS)
    for (;;) {
      const rows = await rangesFrom(this.db, lane, from, delivery, 1000)
      for (const { segment, ranges } of rows) {
        const own = parseRanges(ranges).filter(([d]) => d === delivery)
        if (own.some(([, first, last]) => seq >= first && seq <= last)) return segment
        // Numbers of a delivery come in order.
        if (own.every(([, first]) => first > seq)) return null
      }
      const last = rows.at(-1)
      if (!last || rows.length < 1000) return null
      from = last.segment + 1
    }
  }
}

const sumOf = (readers: readonly LaneReader[], of: 'looked' | 'octets') => readers.reduce((sum, r) => sum + r[of], 0)

/** The lane whose next message was stored last; null: nothing comes in any. */
async function newest(readers: readonly LaneReader[]): Promise<LaneReader | null> {
  let best: LaneReader | null = null
  let at = Number.NEGATIVE_INFINITY
  for (const reader of readers) {
    const peek = await reader.peek()
    if (peek === null || peek <= at) continue
    best = reader
    at = peek
  }
  return best
}
