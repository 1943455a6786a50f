import { sql } from 'kysely'
import type { Conn } from './database'

/** How a segment's body is packed: 0 as it is, 1 deflate (RFC 1951) level 1. */
export type Codec = 0 | 1

export interface SegmentRow {
  segment: number
  count: number
  rawBytes: number
  bodyBytes: number
}

/** Writes one segment; writing the same one again (after a commit whose answer was lost) changes nothing. */
export async function insertSegment(
  db: Conn,
  destinationId: string,
  s: { segment: number; count: number; codec: Codec; rawBytes: number; body: Buffer },
): Promise<void> {
  await sql`insert into outbox_segment (destination_id, segment, count, codec, raw_bytes, body)
    values (${destinationId}, ${s.segment}, ${s.count}, ${s.codec}, ${s.rawBytes}, ${s.body})
    on conflict (destination_id, segment) do nothing`.execute(db)
}

export async function listSegments(db: Conn, destinationId: string): Promise<SegmentRow[]> {
  const rows = await sql<SegmentRow>`
    select segment, count, raw_bytes as "rawBytes", length(body) as "bodyBytes" from outbox_segment
    where destination_id = ${destinationId} order by segment`.execute(db)
  return rows.rows
}

export async function readSegment(db: Conn, destinationId: string, segment: number): Promise<{ codec: Codec; body: Buffer } | null> {
  const rows = await sql<{ codec: Codec; body: Buffer }>`
    select codec, body from outbox_segment where destination_id = ${destinationId} and segment = ${segment}`.execute(db)
  return rows.rows[0] ?? null
}

export interface Cursor {
  /** The oldest segment that isn't wholly acknowledged. */
  segment: number
  /** How many of its messages, from the first, are. */
  done: number
  /** The newest segment whose messages are counted in the ledger's slices. */
  countedSegment: number
}

export async function readCursor(db: Conn, destinationId: string): Promise<Cursor> {
  const row = await db.selectFrom('outbox_cursor').selectAll().where('destination_id', '=', destinationId).executeTakeFirst()
  return row ? { segment: row.segment, done: row.done, countedSegment: row.counted_segment } : { segment: 1, done: 0, countedSegment: 0 }
}

export async function writeCursor(db: Conn, destinationId: string, c: Cursor): Promise<void> {
  await sql`insert into outbox_cursor (destination_id, segment, done, counted_segment)
    select ${destinationId}::uuid, ${c.segment}::bigint, ${c.done}::int, ${c.countedSegment}::bigint where exists (select 1 from destination where id = ${destinationId})
    on conflict (destination_id) do update set segment = excluded.segment, done = excluded.done, counted_segment = excluded.counted_segment`.execute(
    db,
  )
}

export async function deleteSegments(db: Conn, destinationId: string, segments: readonly number[]): Promise<void> {
  if (segments.length === 0) return
  await sql`delete from outbox_segment where destination_id = ${destinationId} and segment = any(${`{${segments.join(',')}}`}::bigint[])`.execute(db)
}
