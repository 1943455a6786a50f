import { sql } from 'kysely'
import type { Plan } from '~/contract/publication'
import type { Codec } from '~/core/delivery/delivery-store'
import type { Conn, Db } from './database'

/** A row of an outbox: it waits, or is in the journal. */
export interface StoredSegment {
  segment: number
  count: number
  codec: Codec
  body: Buffer
  ranges: string
  hops: Buffer | null
  /** Epoch ms. */
  storedAt: number
}

const columns = sql`segment, count, codec, body, ranges, hops, (extract(epoch from created_at) * 1000)::float8 as "storedAt"`

/** Which rows hold messages of some deliveries; null: of any. */
function holding(deliveries: readonly number[] | null) {
  return deliveries === null ? sql`true` : sql`ranges ~ ${`(^|,)(${deliveries.join('|') || 'none'}):`}`
}

/** Rows of one lane before a segment, the newest first. */
export async function segmentsBefore(
  db: Conn,
  lane: string,
  before: number,
  deliveries: readonly number[] | null,
  most: number,
): Promise<StoredSegment[]> {
  const { rows } = await sql<StoredSegment>`select ${columns} from outbox_segment
    where destination_id = ${lane} and segment < ${before}::bigint and ${holding(deliveries)} order by segment desc limit ${most}`.execute(db)
  return rows
}

/** Rows of one lane from a segment on, the oldest first. */
export async function segmentsFrom(db: Conn, lane: string, from: number, deliveries: readonly number[], most: number): Promise<StoredSegment[]> {
  const { rows } = await sql<StoredSegment>`select ${columns} from outbox_segment
    where destination_id = ${lane} and segment >= ${from}::bigint and ${holding(deliveries)} order by segment limit ${most}`.execute(db)
  return rows
}

/** The rows of one lane from a segment on that hold a delivery, without their bodies. */
export async function rangesFrom(
  db: Conn,
  lane: string,
  from: number,
  delivery: number,
  most: number,
): Promise<{ segment: number; ranges: string }[]> {
  const { rows } = await sql<{ segment: number; ranges: string }>`select segment, ranges from outbox_segment
    where destination_id = ${lane} and segment >= ${from}::bigint and ${holding([delivery])} order by segment limit ${most}`.execute(db)
  return rows
}

export async function segmentOf(db: Conn, lane: string, segment: number): Promise<StoredSegment | null> {
  const { rows } = await sql<StoredSegment>`select ${columns} from outbox_segment
    where destination_id = ${lane} and segment = ${segment}::bigint`.execute(db)
  return rows[0] ?? null
}

/** The first segment of a lane that was stored later than that (epoch ms): rows are numbered as they are stored, so halving finds it. */
export async function firstSegmentAfter(db: Conn, lane: string, at: number): Promise<number> {
  const { rows } = await sql<{ low: number; high: number }>`select coalesce(min(segment), 1) as low, coalesce(max(segment), 0) + 1 as high
    from outbox_segment where destination_id = ${lane}`.execute(db)
  let { low, high } = rows[0]!
  while (low < high) {
    const middle = Math.floor((low + high) / 2)
    const found = await sql<{ segment: number; later: boolean }>`
      select segment, extract(epoch from created_at) * 1000 > ${at}::float8 as later from outbox_segment
      where destination_id = ${lane} and segment >= ${middle}::bigint order by segment limit 1`.execute(db)
    const row = found.rows[0]
    if (!row || row.later) high = middle
    else low = row.segment + 1
  }
  return low
}

/** When the slice began in which a message was produced, epoch ms; null: it is not known any more. */
export async function sliceOf(db: Conn, delivery: number, seq: number): Promise<number | null> {
  const { rows } = await sql<{ start: number }>`select start from ledger_slice
    where delivery = ${delivery} and first_seq <= ${seq}::bigint order by first_seq desc limit 1`.execute(db)
  return rows[0]?.start ?? null
}

/** What was live of a publication in a span of time (epoch ms), the oldest first, each with when it went live. */
export async function plansBetween(db: Db, publicationId: string, from: number, to: number): Promise<{ plan: Plan; at: number }[]> {
  const { rows } = await sql<{ plan: Plan; at: number }>`
    select plan, (extract(epoch from made_at) * 1000)::float8 as at from publication_version
    where publication_id = ${publicationId} and made_at <= to_timestamp(${to}::float8 / 1000) and number >= coalesce(
      (select max(number) from publication_version where publication_id = ${publicationId} and made_at <= to_timestamp(${from}::float8 / 1000)), 0)
    order by number`.execute(db)
  return rows
}

/** What was live of the publication of a delivery at a time (epoch ms); null: it is not known any more. */
export async function planAt(db: Db, delivery: number, at: number): Promise<Plan | null> {
  const row = await db
    .selectFrom('publication_version')
    .select('plan')
    .where('delivery', '=', delivery)
    .where('made_at', '<=', new Date(at + 1))
    .orderBy('number', 'desc')
    .limit(1)
    .executeTakeFirst()
  return row?.plan ?? null
}

/** When the next version of a delivery was made after a moment, epoch ms; null: there is none. */
export async function nextVersionAfter(db: Db, delivery: number, at: number): Promise<number | null> {
  const row = await db
    .selectFrom('publication_version')
    .select((q) => q.fn.min('made_at').as('madeAt'))
    .where('delivery', '=', delivery)
    .where('made_at', '>', new Date(at + 1))
    .executeTakeFirst()
  return row?.madeAt ? new Date(row.madeAt).getTime() : null
}
