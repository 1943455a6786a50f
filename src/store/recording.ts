import { sql } from 'kysely'
import { Fenced } from '~/core/delivery/delivery-store'
import type { Conn, Db } from './database'
import { transacted } from './transacted'

/** What tags held from one moment to another (epoch ms), packed. */
export interface RecordingWrite {
  /** Tells it from all others: written again, after an answer that was lost, it is there once. */
  mark: string
  from: number
  to: number
  samples: number
  body: Uint8Array
}

const octetsOf = (body: Uint8Array) => Buffer.from(body.buffer, body.byteOffset, body.byteLength)

/** Writes blocks under an epoch, all or none; `wholeAt`: together they are what all tags held at that moment. */
export async function writeRecording(db: Db, blocks: readonly RecordingWrite[], wholeAt: number | null, epoch: number): Promise<void> {
  await transacted(db, async (tx) => {
    const held = await sql`select 1 from engine_lease where epoch = ${epoch}::bigint for share`.execute(tx)
    if (held.rows.length === 0) throw new Fenced()
    for (const b of blocks)
      await sql`insert into recording (mark, from_ms, to_ms, whole_at, samples, octets, body)
        values (${b.mark}, ${b.from}, ${b.to}, ${wholeAt}, ${b.samples}, ${b.body.length + ROW}, ${octetsOf(b.body)}) on conflict (mark) do nothing`.execute(
        tx,
      )
  })
}

/** What a row takes beside its body, octets. */
const ROW = 100

/** Removes what is older than `before` (epoch ms), and the oldest beyond `bytes`. */
export async function trimRecording(db: Conn, before: number, bytes: number): Promise<void> {
  await sql`delete from recording where to_ms < ${before} or id <= (
    select coalesce(max(id), 0) from (select id, sum(octets) over (order by id desc) as behind from recording) r where behind > ${bytes})`.execute(db)
}

/** Gives all its room back at once. */
export async function emptyRecording(db: Conn): Promise<void> {
  await sql`truncate recording`.execute(db)
}

/** How far it reaches (epoch ms), and what it takes; null: nothing is recorded. */
export async function recordingSpan(db: Conn): Promise<{ from: number; to: number; octets: number } | null> {
  const { rows } = await sql<{ from: number | null; to: number; octets: number }>`
    select (select min(whole_at) from recording where whole_at is not null) as "from", max(to_ms) as "to", coalesce(sum(octets), 0)::float8 as octets
    from recording`.execute(db)
  const { from, to, octets } = rows[0]!
  return from === null ? null : { from, to, octets }
}

/** Up to when it is written, epoch ms; null: nothing is. */
export async function recordedThrough(db: Conn): Promise<number | null> {
  const { rows } = await sql<{ to: number | null }>`select to_ms as "to" from recording order by id desc limit 1`.execute(db)
  return rows[0]?.to ?? null
}

/** When what was recorded up to `to` began again after a gap, as of an engine that did not run (epoch ms); null: there is none. */
export async function lastGap(db: Conn, to: number): Promise<number | null> {
  const { rows } = await sql<{ at: number | null }>`select max(from_ms) as at from (
    select from_ms, lag(to_ms) over (order by id) as before from recording where whole_at is null) r
    where from_ms > before + ${GAP_MS} and from_ms < ${to}`.execute(db)
  return rows[0]!.at
}

/** Blocks of one run follow each other; more than this between two of them is a gap, ms. */
const GAP_MS = 1000

/** The last moment up to `at`, but not before `least`, of which it is known what all tags held, or else the first one after it; null: there is none. */
export async function wholeMoment(db: Conn, at: number, least: number): Promise<number | null> {
  const { rows } = await sql<{ at: number | null }>`select coalesce(
    (select max(whole_at) from recording where whole_at >= ${least} and whole_at <= ${at}),
    (select min(whole_at) from recording where whole_at >= ${least})) as at`.execute(db)
  return rows[0]!.at
}

/** The blocks that hold what all tags held at a moment. */
export async function wholeBlocks(db: Conn, wholeAt: number): Promise<{ id: number; body: Buffer }[]> {
  const { rows } = await sql<{ id: number; body: Buffer }>`select id, body from recording where whole_at = ${wholeAt} order by id`.execute(db)
  return rows
}

/** The next blocks after a row that reach into a span of time, in the order in which they were written. */
export async function blocksAfter(db: Conn, id: number, from: number, to: number, most: number): Promise<{ id: number; body: Buffer }[]> {
  const { rows } = await sql<{ id: number; body: Buffer }>`select id, body from recording
    where id > ${id}::bigint and whole_at is null and to_ms >= ${from} and from_ms <= ${to} order by id limit ${most}`.execute(db)
  return rows
}
