import { sql } from 'kysely'
import { type Codec, type Cursor, Fenced, type KeptSegment, type SegmentRow, type SegmentWrite, type Trimmed } from '~/core/delivery/delivery-store'
import { highestOf } from '~/core/delivery/segment'
import type { Conn } from './database'

/**
 * Writes one segment under an epoch; writing the same one again (after a commit whose answer was lost) changes nothing, also
 * when it has been counted and removed meanwhile: a server that hung may take up a statement long after everybody gave it up.
 * One that is there and is another, or an epoch that is over, means that another engine writes.
 */
export async function insertSegment(db: Conn, destinationId: string, s: SegmentWrite, epoch: number): Promise<void> {
  const body = Buffer.from(s.body.buffer, s.body.byteOffset, s.body.byteLength)
  const done = await sql<{ held: number; written: number; counted: number }>`
    with held as (select 1 from engine_lease where epoch = ${epoch}::bigint for share),
    counted as (select 1 from outbox_cursor where destination_id = ${destinationId}::uuid and counted_segment >= ${s.segment}::bigint),
    written as (
      insert into outbox_segment (destination_id, segment, count, codec, raw_bytes, body, ordinal, ranges)
      select ${destinationId}::uuid, ${s.segment}::bigint, ${s.count}::int, ${s.codec}::smallint, ${s.rawBytes}::int, ${body}::bytea, ${s.ordinal}::bigint, ${s.ranges}::text
      from held where not exists (select from counted)
      on conflict (destination_id, segment) do nothing returning 1)
    select (select count(*) from held)::int as held, (select count(*) from written)::int as written,
      (select count(*) from counted)::int as counted`.execute(db)
  const { held, written, counted } = done.rows[0]!
  if (held === 0) throw new Fenced()
  if (written === 1 || counted === 1) return
  const there = await sql<{ same: boolean }>`
    select count = ${s.count}::int and raw_bytes = ${s.rawBytes}::int and ranges = ${s.ranges}::text and ordinal = ${s.ordinal}::bigint as same
    from outbox_segment where destination_id = ${destinationId}::uuid and segment = ${s.segment}::bigint`.execute(db)
  if (there.rows[0]?.same !== true) throw new Fenced()
}

export async function listSegments(db: Conn, destinationId: string): Promise<SegmentRow[]> {
  const rows = await sql<SegmentRow>`
    select segment, count, raw_bytes as "rawBytes", length(body) as "bodyBytes", ordinal, ranges,
      greatest(0, extract(epoch from now() - created_at) * 1000)::float8 as "ageMs" from outbox_segment
    where destination_id = ${destinationId} and freed_at is null order by segment`.execute(db)
  return rows.rows
}

export async function readSegment(db: Conn, destinationId: string, segment: number): Promise<{ codec: Codec; body: Buffer } | null> {
  const rows = await sql<{ codec: Codec; body: Buffer }>`
    select codec, body from outbox_segment where destination_id = ${destinationId} and segment = ${segment}`.execute(db)
  return rows.rows[0] ?? null
}

export async function readCursor(db: Conn, destinationId: string): Promise<Cursor> {
  const row = await db.selectFrom('outbox_cursor').selectAll().where('destination_id', '=', destinationId).executeTakeFirst()
  return row
    ? { segment: row.segment, done: row.done, countedSegment: row.counted_segment, ordinal: row.ordinal, announced: row.announced }
    : { segment: 1, done: 0, countedSegment: 0, ordinal: 0, announced: 0 }
}

export async function writeCursor(db: Conn, destinationId: string, c: Cursor): Promise<void> {
  await sql`insert into outbox_cursor (destination_id, segment, done, counted_segment, ordinal, announced)
    select ${destinationId}::uuid, ${c.segment}::bigint, ${c.done}::int, ${c.countedSegment}::bigint, ${c.ordinal}::bigint, ${c.announced}::bigint
    where exists (select 1 from destination where id = ${destinationId})
    on conflict (destination_id) do update set segment = excluded.segment, done = excluded.done, counted_segment = excluded.counted_segment,
      ordinal = excluded.ordinal, announced = excluded.announced`.execute(db)
}

export async function deleteSegments(db: Conn, destinationId: string, segments: readonly number[]): Promise<void> {
  if (segments.length === 0) return
  await sql`delete from outbox_segment where destination_id = ${destinationId} and segment = any(${`{${segments.join(',')}}`}::bigint[])`.execute(db)
}

/** Segments go into the journal: they wait no more, and can be looked at. */
export async function keepSegments(db: Conn, destinationId: string, segments: readonly KeptSegment[]): Promise<void> {
  if (segments.length === 0) return
  const rows = segments.map(({ segment, hops }) => ({ n: segment, h: hops && Buffer.from(hops).toString('base64') }))
  await sql`update outbox_segment s set freed_at = now(), hops = decode(x.h, 'base64')
    from jsonb_to_recordset(${JSON.stringify(rows)}::jsonb) as x(n bigint, h text)
    where s.destination_id = ${destinationId} and s.segment = x.n`.execute(db)
}

export async function journalBytes(db: Conn, destinationId: string): Promise<number> {
  const { rows } = await sql<{ bytes: number }>`select coalesce(sum(length(body)), 0)::float8 as bytes from outbox_segment
    where destination_id = ${destinationId} and freed_at is not null`.execute(db)
  return rows[0]!.bytes
}

/** So many rows are removed at once: nobody waits long for what that holds. */
const TRIM_ROWS = 1000

/** What a journal holds too much of: what is in it for longer than `ageMs`, and the oldest until `bytes` octets are free. */
export interface Over {
  ageMs: number
  bytes: number
}

/** Removes the oldest of a journal, at most `TRIM_ROWS` rows, and none under an epoch that is over. */
export async function trimJournal(db: Conn, destinationId: string, { ageMs, bytes }: Over, epoch: number): Promise<Trimmed> {
  const { rows } = await sql<Trimmed>`
    with first as (
      select segment, freed_at, count, length(body) as size from outbox_segment
      where destination_id = ${destinationId} and freed_at is not null order by segment limit ${TRIM_ROWS}),
    oldest as (select *, sum(size) over (order by segment) as upto from first),
    gone as (
      delete from outbox_segment s using oldest o
      where s.destination_id = ${destinationId} and s.segment = o.segment
        and exists (select from engine_lease where epoch = ${epoch}::bigint)
        and (o.freed_at < now() - ${ageMs}::float8 * interval '1 ms' or o.upto - o.size < ${bytes}::float8)
      returning o.size, o.count)
    select count(*)::int as rows, coalesce(sum(size), 0)::float8 as bytes, coalesce(sum(count), 0)::int as messages from gone`.execute(db)
  return rows[0]!
}

/** The highest number of each delivery in segments that are not counted yet. */
export async function givenNumbers(db: Conn): Promise<Map<number, number>> {
  const rows = await sql<{ ranges: string }>`
    select s.ranges from outbox_segment s left join outbox_cursor c using (destination_id) where s.segment > coalesce(c.counted_segment, 0)`.execute(
    db,
  )
  return highestOf(rows.rows.map((r) => r.ranges))
}
