import { sql } from 'kysely'
import type { Brick } from '~/contract/live'
import type { Fate } from '~/contract/wrong'
import type { AccountChange } from '~/core/delivery/account-changes'
import { Fenced } from '~/core/delivery/delivery-store'
import { Histogram } from '~/core/delivery/histogram'
import { RangeSet } from '~/core/delivery/ranges'
import { emptyStanding, oddSets, openSets, type Standing, verdicts, windowSets } from '~/core/delivery/verdict'
import type { SliceFate } from '~/core/proof/recent'
import type { Conn } from './database'

/** Takes the flush number one up; false when this very flush was committed before its answer got lost. */
export async function claimFlush(tx: Conn, number: number): Promise<boolean> {
  const moved = await sql`update ledger_state set flush = ${number}::bigint where flush = ${number - 1}::bigint`.execute(tx)
  if (moved.numAffectedRows === 1n) return true
  const row = await tx.selectFrom('ledger_state').select('flush').executeTakeFirstOrThrow()
  if (row.flush === number) return false
  throw new Fenced()
}

export async function lastFlush(db: Conn): Promise<number> {
  return (await db.selectFrom('ledger_state').select('flush').executeTakeFirstOrThrow()).flush
}

/** How every delivery stands, by its number. */
export async function loadStandings(db: Conn): Promise<Map<number, Standing>> {
  const standings = new Map<number, Standing>()
  for (const r of await db.selectFrom('ledger_total').selectAll().execute())
    standings.set(r.delivery, {
      ...emptyStanding(),
      storedThrough: r.stored_through,
      madeAt: r.made_at,
      turns: r.turns,
      acknowledged: r.acknowledged,
      foreign: r.foreign_count,
      answered: upTo(r.answered_through),
      known: upTo(r.known_through),
      tally: Object.fromEntries(verdicts.map((v) => [v, r[v]])) as Standing['tally'],
    })
  const odd = await db.selectFrom('ledger_odd').selectAll().orderBy('delivery').orderBy('part').execute()
  for (const row of odd) {
    const standing = standings.get(row.delivery)
    if (!standing) continue
    for (const set of oddSets) for (const [first, last] of RangeSet.parse(row[set])) standing.odd[set].append(first, last)
    // A window may hold numbers that the gapless run has passed since.
    for (const set of openSets)
      for (const [first, last] of RangeSet.parse(row[set])) standing[set].append(Math.max(first, (standing[set].max ?? 0) + 1), last)
  }
  return standings
}

function upTo(n: number): RangeSet {
  const set = new RangeSet()
  set.append(1, n)
  return set
}

const fields = sql.join(verdicts.map((v) => sql.ref(v)))
const typed = (type: string) => sql.join(verdicts.map((v) => sql`${sql.ref(v)} ${sql.raw(type)}`))
const of = (table: string) => sql.join(verdicts.map((v) => sql.ref(`${table}.${v}`)))

/** Adds what happened to the slices and replaces the standings. Deliveries that were removed meanwhile are passed over. */
export async function writeChanges(tx: Conn, changes: readonly AccountChange[]): Promise<void> {
  if (changes.length === 0) return
  const slices = changes.flatMap((c) => c.slices.map((s) => ({ d: c.delivery, ...s })))
  if (slices.length > 0)
    await sql`insert into ledger_slice as l (delivery, start, first_seq, produced, foreign_count, ${fields})
      select x.d, x.start, x."firstSeq", x.produced, x."foreign", ${of('x')}
      from jsonb_to_recordset(${JSON.stringify(slices)}::jsonb) as x(d int, start bigint, "firstSeq" bigint, produced bigint, "foreign" bigint, ${typed('bigint')})
      join delivery on delivery.number = x.d
      on conflict (delivery, start) do update set
        first_seq = least(l.first_seq, excluded.first_seq), produced = l.produced + excluded.produced,
        foreign_count = l.foreign_count + excluded.foreign_count,
        ${sql.join(verdicts.map((v) => sql`${sql.ref(v)} = ${sql.ref(`l.${v}`)} + ${sql.ref(`excluded.${v}`)}`))}`.execute(tx)
  const moves = changes.flatMap((c) => c.moves.map((m) => ({ d: c.delivery, ...m })))
  if (moves.length > 0)
    // The slice of a message is the last one that began with its number or a lower one.
    await sql`update ledger_slice l set ${sql.join(verdicts.map((v) => sql`${sql.ref(v)} = ${sql.ref(`l.${v}`)} + ${sql.ref(`m.${v}`)}`))}
      from (select x.d, s.start, ${sql.join(verdicts.map((v) => sql`sum((x."to" = ${v})::int - (x."from" = ${v})::int)::int as ${sql.ref(v)}`))}
        from jsonb_to_recordset(${JSON.stringify(moves)}::jsonb) as x(d int, seq bigint, "from" text, "to" text),
          lateral (select start from ledger_slice where delivery = x.d and first_seq <= x.seq order by first_seq desc limit 1) s
        group by 1, 2) m
      where l.delivery = m.d and l.start = m.start`.execute(tx)
  const totals = changes.map((c) => ({ d: c.delivery, ...c.total }))
  await sql`insert into ledger_total (delivery, stored_through, made_at, turns, acknowledged, foreign_count, answered_through, known_through, ${fields})
    select x.d, x."storedThrough", x."madeAt", x.turns, x.acknowledged, x."foreign", x."answeredThrough", x."knownThrough", ${of('x')}
    from jsonb_to_recordset(${JSON.stringify(totals)}::jsonb) as x(d int, "storedThrough" bigint, "madeAt" bigint, turns int, acknowledged bigint,
      "foreign" bigint, "answeredThrough" bigint, "knownThrough" bigint, ${typed('bigint')})
    join delivery on delivery.number = x.d
    on conflict (delivery) do update set stored_through = excluded.stored_through, made_at = excluded.made_at, turns = excluded.turns,
      acknowledged = excluded.acknowledged, foreign_count = excluded.foreign_count, answered_through = excluded.answered_through,
      known_through = excluded.known_through, ${sql.join(verdicts.map((v) => sql`${sql.ref(v)} = ${sql.ref(`excluded.${v}`)}`))}`.execute(tx)
  const windows = changes.flatMap((c) => c.windows.map((o) => ({ d: c.delivery, part: o.window, ...o.sets })))
  const empty = windows.filter((w) => windowSets.every((s) => w[s] === '{}'))
  if (empty.length > 0)
    await sql`delete from ledger_odd o using jsonb_to_recordset(${JSON.stringify(empty.map(({ d, part }) => ({ d, part })))}::jsonb) as x(d int, part bigint)
      where o.delivery = x.d and o.part = x.part`.execute(tx)
  const filled = windows.filter((w) => windowSets.some((s) => w[s] !== '{}'))
  if (filled.length > 0)
    await sql`insert into ledger_odd (delivery, part, ${sql.join(windowSets.map((s) => sql.ref(s)))})
      select x.d, x.part, ${sql.join(windowSets.map((s) => sql.ref(`x.${s}`)))}
      from jsonb_to_recordset(${JSON.stringify(filled)}::jsonb)
        as x(d int, part bigint, ${sql.join(windowSets.map((s) => sql`${sql.ref(s)} int8multirange`))})
      join delivery on delivery.number = x.d
      on conflict (delivery, part) do update set ${sql.join(windowSets.map((s) => sql`${sql.ref(s)} = ${sql.ref(`excluded.${s}`)}`))}`.execute(tx)
}

/** Replaces the histograms of some minutes (epoch minutes), all in one statement. */
export async function writeLatencies(tx: Conn, all: readonly { delivery: number; minute: number; histogram: Histogram }[]): Promise<void> {
  if (all.length === 0) return
  const rows = all.map((l) => ({ d: l.delivery, m: l.minute, h: Buffer.from(l.histogram.encode()).toString('base64') }))
  await sql`insert into ledger_latency (delivery, minute, histogram)
    select x.d, x.m, decode(x.h, 'base64') from jsonb_to_recordset(${JSON.stringify(rows)}::jsonb) as x(d int, m bigint, h text)
    join delivery on delivery.number = x.d
    on conflict (delivery, minute) do update set histogram = excluded.histogram`.execute(tx)
}

/** Histograms of minutes (epoch minutes, both counted), by delivery. */
export async function loadLatency(
  db: Conn,
  sinceMinute: number,
  delivery?: number,
  lastMinute?: number,
): Promise<{ delivery: number; minute: number; histogram: Histogram }[]> {
  let query = db.selectFrom('ledger_latency').selectAll().where('minute', '>=', sinceMinute)
  if (lastMinute !== undefined) query = query.where('minute', '<=', lastMinute)
  if (delivery !== undefined) query = query.where('delivery', '=', delivery)
  return (await query.execute()).map((r) => ({ delivery: r.delivery, minute: r.minute, histogram: Histogram.decode(r.histogram) }))
}

/** Slices of all deliveries between two times (epoch ms), summed by the database to bricks of `sliceMs`. */
export async function wallBricks(db: Conn, from: number, to: number, sliceMs: number): Promise<{ delivery: number; brick: Brick }[]> {
  const rows = await sql<Brick & { delivery: number }>`
    select delivery, (start / ${sliceMs}::bigint) * ${sliceMs}::bigint as start, sum(produced)::bigint as produced,
      ${sql.join(verdicts.map((v) => sql`sum(${sql.ref(v)})::bigint as ${sql.ref(v)}`))}, sum(foreign_count)::bigint as "foreign"
    from ledger_slice where start >= ${from} and start < ${to} group by 1, 2 order by 1, 2`.execute(db)
  return rows.rows.map(({ delivery, ...brick }) => ({ delivery, brick }))
}

/** What became of the messages of a delivery made since then (epoch ms), slice by slice. */
export async function slicesOf(db: Conn, delivery: number, since: number): Promise<SliceFate[]> {
  const rows = await db
    .selectFrom('ledger_slice')
    .select(['start', 'produced', ...verdicts])
    .where('delivery', '=', delivery)
    .where('start', '>=', since)
    .orderBy('start')
    .execute()
  return rows
}

/** What became of all messages made since then (epoch ms, by whole slices), by destination. */
export async function fatesSince(db: Conn, since: number): Promise<Fate[]> {
  const rows = await sql<Fate>`
    select t.id as "destinationId", t.name as destination, sum(s.produced)::bigint as produced,
      sum(s.confirmed + s.late + s.disordered + s.doubled)::bigint as arrived, sum(s.altered)::bigint as altered, sum(s.missing)::bigint as missing,
      sum(s.dropped)::bigint as dropped, sum(s.rejected)::bigint as rejected, sum(s.unknown)::bigint as unknown
    from ledger_slice s join delivery d on d.number = s.delivery
    join destination l on l.id = d.destination_id join destination t on t.id = coalesce(l.parent_id, l.id)
    where s.start >= ${since} group by t.id, t.name order by t.name`.execute(db)
  return rows.rows
}
