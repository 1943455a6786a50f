import { sql } from 'kysely'
import {
  type Codec,
  type DayCount,
  type DeliveryStore,
  Fenced,
  type FlushWrite,
  type SegmentWrite,
  type StoreTrouble,
  type Trimmed,
} from '~/core/delivery/delivery-store'
import type { Conn, Db } from './database'
import { claimFlush, lastFlush, loadLatency, loadStandings, writeChanges, writeLatencies } from './ledger'
import {
  deleteSegments,
  givenNumbers,
  insertSegment,
  journalBytes,
  keepSegments,
  listSegments,
  readCursor,
  readSegment,
  trimJournal,
  writeCursor,
} from './outbox'

/** Delivery's transactions over PostgreSQL, all under the epoch that the engine holds. */
export class PgDeliveryStore implements DeliveryStore {
  constructor(
    private readonly db: Db,
    private readonly epoch: () => number,
  ) {}

  append(destinationId: string, s: SegmentWrite): Promise<void> {
    return insertSegment(this.db, destinationId, s, this.epoch())
  }

  readSegment(destinationId: string, segment: number): Promise<{ codec: Codec; body: Uint8Array } | null> {
    return readSegment(this.db, destinationId, segment)
  }

  async loadOutbox(destinationId: string) {
    return { cursor: await readCursor(this.db, destinationId), segments: await listSegments(this.db, destinationId) }
  }

  async loadLedger(sinceMinute: number) {
    return {
      flush: await lastFlush(this.db),
      standings: await loadStandings(this.db),
      given: await givenNumbers(this.db),
      latencies: await loadLatency(this.db, sinceMinute),
    }
  }

  /** Where the disk is full, nothing goes into a journal: what need not be kept makes room. */
  async flush(w: FlushWrite): Promise<void> {
    try {
      await this.write(w)
    } catch (e) {
      if (storeTrouble(e) !== 'full' || w.outboxes.every((o) => o.keep.length === 0)) throw e
      const outboxes = w.outboxes.map((o) => ({ ...o, remove: [...o.remove, ...o.keep.map((k) => k.segment)], keep: [] }))
      await this.write({ ...w, outboxes })
    }
  }

  private write(w: FlushWrite): Promise<void> {
    return this.db.transaction().execute(async (tx) => {
      await holdEpoch(tx, this.epoch())
      if (!(await claimFlush(tx, w.number))) return
      await writeChanges(tx, w.changes)
      await writeLatencies(tx, w.latencies)
      for (const p of w.positions) await writePosition(tx, p.destinationId, p.position)
      for (const o of w.outboxes) {
        await writeCursor(tx, o.destinationId, o.cursor)
        await deleteSegments(tx, o.destinationId, o.remove)
        await keepSegments(tx, o.destinationId, o.keep)
      }
    })
  }

  journalBytes(destinationId: string): Promise<number> {
    return journalBytes(this.db, destinationId)
  }

  trimJournal(destinationId: string, over: { ageMs: number; bytes: number }): Promise<Trimmed> {
    return trimJournal(this.db, destinationId, over, this.epoch())
  }

  async loadPosition(destinationId: string): Promise<Uint8Array | null> {
    const row = await this.db.selectFrom('witness_position').select('position').where('destination_id', '=', destinationId).executeTakeFirst()
    return row?.position ?? null
  }

  async nextBirth(destinationId: string): Promise<number> {
    const { rows } = await sql<{ n: number }>`
      update destination set birth_death = (birth_death + 1) % 256
      where id = ${destinationId} and exists (select 1 from engine_lease where epoch = ${this.epoch()}::bigint) returning birth_death as n`.execute(
      this.db,
    )
    if (!rows[0]) throw new Fenced()
    return rows[0].n
  }

  async loadDay(destinationId: string): Promise<DayCount | null> {
    const row = await this.db.selectFrom('sent_day').select(['day', 'count']).where('destination_id', '=', destinationId).executeTakeFirst()
    return row ?? null
  }

  async keepDay(destinationId: string, { day, count }: DayCount): Promise<void> {
    await sql`insert into sent_day as s (destination_id, day, count)
      select id, ${day}::int, ${count}::bigint from destination
      where id = ${destinationId} and exists (select 1 from engine_lease where epoch = ${this.epoch()}::bigint)
      on conflict (destination_id) do update set day = excluded.day, count = excluded.count
      where (excluded.day, excluded.count) > (s.day, s.count)`.execute(this.db)
  }
}

/** Nobody can take over before this transaction ends; throws when somebody has. */
async function holdEpoch(tx: Conn, epoch: number): Promise<void> {
  const held = await sql`select 1 from engine_lease where epoch = ${epoch}::bigint for share`.execute(tx)
  if (held.rows.length === 0) throw new Fenced()
}

async function writePosition(tx: Conn, destinationId: string, position: Uint8Array): Promise<void> {
  await sql`insert into witness_position (destination_id, position)
    select ${destinationId}::uuid, ${Buffer.from(position)} where exists (select 1 from destination where id = ${destinationId})
    on conflict (destination_id) do update set position = excluded.position`.execute(tx)
}

/** What an error of PostgreSQL, or of the way to it, means for who wants to store. */
export function storeTrouble(e: unknown): StoreTrouble {
  const { code = '', message = '' } = (e ?? {}) as { code?: string; message?: string }
  if (code === '53100' || code === 'ENOSPC' || /no space left|disk full/i.test(message)) return 'full'
  if (/silent|timeout|timed out/i.test(message) || ['57014', '55P03', 'ETIMEDOUT'].includes(code)) return 'silent'
  if (/^(ECONN|ENOENT|EPIPE|EHOST|ENET|57P|08)/.test(code) || /connection (terminated|ended)|not queryable|cannot use a pool/i.test(message))
    return 'away'
  return 'failed'
}
