import { sql } from 'kysely'
import type { Brick } from '~/contract/live'
import { type AccountChange, type Standing, standingSets } from '~/core/delivery/account'
import { Histogram } from '~/core/delivery/histogram'
import { RangeSet } from '~/core/delivery/ranges'
import type { Conn } from './database'

/** Takes the flush number one up; false when this very flush was committed before its answer got lost. */
export async function claimFlush(tx: Conn, number: number): Promise<boolean> {
  const moved = await sql`update ledger_state set flush = ${number}::bigint where flush = ${number - 1}::bigint`.execute(tx)
  if (moved.numAffectedRows === 1n) return true
  const row = await tx.selectFrom('ledger_state').select('flush').executeTakeFirstOrThrow()
  if (row.flush === number) return false
  throw new Error(`ledger flush ${number} finds ${row.flush}: another engine writes to this database`)
}

export async function lastFlush(db: Conn): Promise<number> {
  return (await db.selectFrom('ledger_state').select('flush').executeTakeFirstOrThrow()).flush
}

export async function loadStandings(db: Conn): Promise<Map<number, Standing>> {
  const rows = await db.selectFrom('ledger_total').selectAll().execute()
  const parse = (r: (typeof rows)[number]) =>
    Object.fromEntries(standingSets.map((k) => [k, RangeSet.parse(r[k])])) as Omit<Standing, 'storedThrough'>
  return new Map(rows.map((r) => [r.delivery, { storedThrough: r.stored_through, ...parse(r) }]))
}

/** Adds what happened to the slices and replaces the standings. Deliveries that were removed meanwhile are passed over. */
export async function writeChanges(tx: Conn, changes: readonly AccountChange[]): Promise<void> {
  if (changes.length === 0) return
  const slices = changes.flatMap((c) => c.slices.map((s) => ({ d: c.delivery, ...s })))
  if (slices.length > 0)
    await sql`insert into ledger_slice as l
        (delivery, start, first_seq, produced, confirmed, late, missing, doubled, dropped, rejected, unknown)
      select x.d, x.start, x."firstSeq", x.produced, x.confirmed, x.late, x.missing, x.doubled, x.dropped, x.rejected, x.unknown
      from jsonb_to_recordset(${JSON.stringify(slices)}::jsonb) as x(d int, start bigint, "firstSeq" bigint, produced int,
        confirmed int, late int, missing int, doubled int, dropped int, rejected int, unknown int)
      join delivery on delivery.number = x.d
      on conflict (delivery, start) do update set
        first_seq = least(l.first_seq, excluded.first_seq), produced = l.produced + excluded.produced,
        confirmed = l.confirmed + excluded.confirmed, late = l.late + excluded.late, missing = excluded.missing,
        doubled = l.doubled + excluded.doubled, dropped = l.dropped + excluded.dropped,
        rejected = l.rejected + excluded.rejected, unknown = l.unknown + excluded.unknown`.execute(tx)
  for (const c of changes) {
    for (const seq of c.doubled) await addBySeq(tx, c.delivery, seq, sql`doubled = doubled + 1`)
    for (const seq of c.afterAll)
      await addBySeq(tx, c.delivery, seq, sql`confirmed = confirmed + 1, late = late + 1, missing = greatest(0, missing - 1)`)
    await sql`insert into ledger_total (delivery, stored_through, ${sql.join(standingSets.map((k) => sql.ref(k)))})
      select ${c.delivery}::int, ${c.storedThrough}::bigint, ${sql.join(standingSets.map((k) => sql`${c.sets[k]}::int8multirange`))}
      where exists (select 1 from delivery where number = ${c.delivery})
      on conflict (delivery) do update set stored_through = excluded.stored_through,
        ${sql.join(standingSets.map((k) => sql`${sql.ref(k)} = excluded.${sql.ref(k)}`))}`.execute(tx)
  }
}

async function addBySeq(tx: Conn, delivery: number, seq: number, set: ReturnType<typeof sql>): Promise<void> {
  await sql`update ledger_slice set ${set} where delivery = ${delivery} and start =
    (select start from ledger_slice where delivery = ${delivery} and first_seq <= ${seq} order by first_seq desc limit 1)`.execute(tx)
}

export async function writeLatency(tx: Conn, delivery: number, minute: number, histogram: Histogram): Promise<void> {
  await sql`insert into ledger_latency (delivery, minute, histogram)
    select ${delivery}::int, ${minute}::bigint, ${Buffer.from(histogram.encode())}::bytea where exists (select 1 from delivery where number = ${delivery})
    on conflict (delivery, minute) do update set histogram = excluded.histogram`.execute(tx)
}

/** Histograms since a minute (epoch minutes), by delivery. */
export async function loadLatency(
  db: Conn,
  sinceMinute: number,
  delivery?: number,
): Promise<{ delivery: number; minute: number; histogram: Histogram }[]> {
  let query = db.selectFrom('ledger_latency').selectAll().where('minute', '>=', sinceMinute)
  if (delivery !== undefined) query = query.where('delivery', '=', delivery)
  return (await query.execute()).map((r) => ({ delivery: r.delivery, minute: r.minute, histogram: Histogram.decode(r.histogram) }))
}

/** Slices of all deliveries between two times (epoch ms), summed by the database to bricks of `sliceMs`. */
export async function wallBricks(db: Conn, from: number, to: number, sliceMs: number): Promise<{ delivery: number; brick: Brick }[]> {
  const rows = await sql<Brick & { delivery: number }>`
    select delivery, (start / ${sliceMs}::bigint) * ${sliceMs}::bigint as start, sum(produced)::int as produced,
      sum(confirmed)::int as confirmed, sum(late)::int as late, sum(missing)::int as missing, sum(doubled)::int as doubled,
      sum(dropped)::int as dropped
    from ledger_slice where start >= ${from} and start < ${to} group by 1, 2 order by 1, 2`.execute(db)
  return rows.rows.map(({ delivery, ...brick }) => ({ delivery, brick }))
}
