import { sql } from 'kysely'
import type { Db } from './database'

export interface Kept {
  /** How long slices of time are kept, and histograms of latencies, days. */
  sliceDays: number
  latencyDays: number
  /** How many frozen versions of a publication are kept. */
  versions: number
}

const DAY_MS = 86_400_000
/** Rows at once: nobody waits long for what this holds. */
const ROWS = 10_000

/** Removes what is older than is kept. A slice with messages whose fate is open stays. */
export async function trim(db: Db, kept: Kept, now: number): Promise<void> {
  const before = now - kept.sliceDays * DAY_MS
  await sql`delete from ledger_slice where ctid in (
    select s.ctid from ledger_slice s join ledger_total t using (delivery)
    where s.start < ${before}::bigint and coalesce(s.first_seq, 0) + s.produced <= t.known_through limit ${ROWS})`.execute(db)
  await sql`delete from ledger_latency where ctid in (
    select ctid from ledger_latency where minute < ${Math.floor((now - kept.latencyDays * DAY_MS) / 60_000)}::bigint limit ${ROWS})`.execute(db)
  await sql`delete from publication_version v using publication p
    where p.id = v.publication_id and v.number <= coalesce(p.live_version, 0) - ${kept.versions}`.execute(db)
}
