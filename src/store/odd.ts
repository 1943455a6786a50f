import { sql } from 'kysely'
import { RangeSet } from '~/core/delivery/ranges'
import { ODD_WINDOW, type OddSet, oddSets } from '~/core/delivery/verdict'
import { countOf, type OddVerdict, oddRuns, oddVerdicts, type Run } from '~/core/proof/odd'
import type { Conn } from './database'

/** So many rows of odd messages are read for one answer, each about 4096 numbers. */
const ROWS_MOST = 5000
/** So many runs of each verdict are listed. */
const RUNS_MOST = 100

/** Messages of a delivery that did not arrive as they should, of those made between two times (epoch ms), by their verdict, the worst first. */
export async function oddBetween(
  db: Conn,
  delivery: number,
  from: number,
  to: number,
): Promise<{ verdict: OddVerdict; count: number; runs: [number, number][] }[]> {
  const within = await numbersOf(db, delivery, from, to)
  if (within.length === 0) return []
  const part = (n: number) => Math.floor(n / ODD_WINDOW)
  const rows = await db
    .selectFrom('ledger_odd')
    .select(['part', ...oddSets])
    .where('delivery', '=', delivery)
    .where('part', '>=', part(within[0]![0]))
    .where('part', '<=', part(within.at(-1)![1]))
    .orderBy('part')
    .limit(ROWS_MOST)
    .execute()
  const sets = Object.fromEntries(oddSets.map((set) => [set, rows.flatMap((row) => [...RangeSet.parse(row[set])])])) as unknown as Record<
    OddSet,
    Run[]
  >
  const found = oddRuns(sets, within)
  return oddVerdicts.flatMap((verdict) => {
    const runs = found.get(verdict) ?? []
    return runs.length === 0
      ? []
      : [{ verdict, count: countOf(runs), runs: runs.slice(0, RUNS_MOST).map(([first, last]): [number, number] => [first, last]) }]
  })
}

/** The numbers that were given in a span of time: those of a slice go up to where the next one begins. */
async function numbersOf(db: Conn, delivery: number, from: number, to: number): Promise<Run[]> {
  const { rows } = await sql<{ first: number; last: number | null }>`
    select s.first_seq as first, (select min(n.first_seq) - 1 from ledger_slice n where n.delivery = s.delivery and n.first_seq > s.first_seq) as last
    from ledger_slice s where s.delivery = ${delivery} and s.start >= ${from} and s.start < ${to} and s.first_seq is not null order by 1`.execute(db)
  const out: [number, number][] = []
  for (const { first, last } of rows) {
    const end = last ?? Number.MAX_SAFE_INTEGER
    const before = out.at(-1)
    if (before && before[1] === first - 1) before[1] = end
    else out.push([first, end])
  }
  return out
}
