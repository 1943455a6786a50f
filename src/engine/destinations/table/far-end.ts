import type pg from 'pg'
import type { TableSettings } from '~/contract/destinations/table'
import { type Failure, FailureError, fail } from '~/contract/failure'
import { tableRead } from '~/core/address/kinds/table'
import type { WitnessView } from '~/core/delivery/account'
import { digest } from '~/core/delivery/digest'
import { parseExact } from '~/core/value/exact-json'
import { plainRows, type Row } from '~/core/value/plain-rows'
import { type Clock, sleep } from '../../clock/clock'
import { hangUp } from '../../net/postgres'
import type { FarEnd, FarSink, Position } from '../far-end'
import { readRowId } from '../rows'
import { connectTable, type TableUser } from './access'
import { lostFailure, meaningOf } from './answers'
import { quoted, type Table, tableOf } from './catalog'
import { Numbers, type Written as NumbersWritten } from './numbers'

/** Rows that are asked for at once. */
const ROWS_MOST = 2000
/** Seen and not yet written: more are not asked for. */
const UNWRITTEN_MOST = 10_000
/** A table that may not be read is looked at again so often, ms. */
const LOOK_AGAIN_MS = 4000

interface Written {
  tables: [name: string, since: number, numbers: NumbersWritten, last: string | null][]
}

/** One table that is read. */
interface Reading {
  table: Table
  /** Since when what goes there is sure to be read (monotonic ms). */
  since: number
  numbers: Numbers
  /** Who the row is that was read last: a table that was emptied, or came back as it was before, has another one there, or none. */
  last: string | null
  /** Rows of messages of which not all have been read. */
  parts: Map<string, Parts>
  /** All that was there when this was asked has come (monotonic ms). */
  endAt: number
}

/** Rows of one message by which of them each is. */
interface Parts {
  rows: Map<number, Row>
  numbers: number[]
}

interface Token {
  reading: Reading
  numbers: readonly number[]
}

interface Asked {
  n: string
  who: string | null
  id: string | null
  row: string
}

/** Reads rows back by a number that their table counts up, with a log-in that need only read. */
export class TableFarEnd implements FarEnd {
  private wanted: readonly string[] = []
  /** Tables whose rows are replaced. */
  private replaced: ReadonlySet<string> = new Set()
  private readonly readings = new Map<string, Reading>()
  private refused = new Map<string, string>()
  private restored = new Map<string, { since: number; numbers: NumbersWritten; last: string | null }>()
  /** When tables that are not there were looked for last (monotonic ms): all that will be in them comes after. */
  private readonly absent = new Map<string, number>()
  private client: pg.Client | null = null
  private connectedAt: number | null = null
  private askedAt: number | null = null
  private beginning: Promise<void> = Promise.resolve()
  private lookedAt = Number.NEGATIVE_INFINITY
  private changed = false
  private unwritten = 0
  private wake: () => void = () => undefined

  constructor(
    private readonly user: TableUser,
    private readonly s: TableSettings,
    private readonly sink: FarSink,
    private readonly clock: Clock,
  ) {}

  restore(position: Position): void {
    if (!position || position === 'forget') return
    const { tables } = JSON.parse(Buffer.from(position).toString('utf8')) as Written
    const shift = this.clock.mono() - this.clock.wall()
    this.restored = new Map(tables.map(([name, since, numbers, last]) => [name, { since: since + shift, numbers, last }]))
  }

  position(): Uint8Array | null {
    if (!this.changed) return null
    this.changed = false
    const shift = this.clock.mono() - this.clock.wall()
    const tables = [
      ...[...this.readings].map(([name, r]): Written['tables'][number] => [name, r.since - shift, r.numbers.written(), r.last]),
      // What this run has not come to yet is still where the last one was.
      ...[...this.restored].map(([name, r]): Written['tables'][number] => [name, r.since - shift, r.numbers, r.last]),
      // All that will ever be in a table which is not there yet is still to be read.
      ...[...this.absent].flatMap(([name, at]): Written['tables'] =>
        this.readings.has(name) || this.restored.has(name) ? [] : [[name, at - shift, new Numbers().written(), null]],
      ),
    ]
    return Buffer.from(JSON.stringify({ tables } satisfies Written))
  }

  prepare(): void {
    // Nothing changes there because somebody reads.
  }

  async connect(): Promise<void> {
    let client: pg.Client | null = null
    const over = (e: unknown) => client !== null && this.client === client && this.lost(e)
    try {
      client = await connectTable(this.user, over)
      client.on('end', () => over(new Error('it was ended there')))
      this.client = client
      const standby = await client.query<{ standby: boolean }>('select pg_is_in_recovery() as standby')
      if (standby.rows[0]?.standby) throw new FailureError(onStandby, 502)
      await this.begin(client, true)
    } catch (e) {
      if (this.client === client) this.drop()
      throw e instanceof FailureError ? e : new FailureError(lostFailure(e, this.user, 'witness'), 502)
    }
    if (this.client !== client) throw new FailureError(lostFailure(new Error('the reading was ended'), this.user, 'witness'), 502)
    this.connectedAt = this.clock.mono()
    void this.run(client)
  }

  private tables(): string[] {
    return [...new Set(this.wanted.map((read) => tableRead(read).table))]
  }

  /** Begins with tables that are not read yet, once at a time; `anew`: over a new connection, behind which all may be another. */
  private begin(client: pg.Client, anew: boolean): Promise<void> {
    const begun = this.beginning.then(() => (this.client === client ? this.beginNow(client, anew) : undefined))
    this.beginning = begun.catch(() => undefined)
    return begun
  }

  private async beginNow(client: pg.Client, anew: boolean): Promise<void> {
    this.lookedAt = this.clock.mono()
    const refused = new Map<string, string>()
    for (const name of this.tables()) {
      const there = this.readings.get(name)
      if (there && !anew) continue
      try {
        const at = this.clock.mono()
        const table = await this.lookAt(client, name)
        if (table) this.readings.set(name, await this.readingOf(client, name, table))
        else {
          this.absent.set(name, at)
          this.readings.delete(name)
          // It is made by the first message.
          if (!this.s.make) refused.set(name, `there is no table ${name}`)
        }
        this.changed = true
      } catch (e) {
        if (!(e instanceof FailureError) && meaningOf(e, name, this.user).meaning === 'lost') throw e
        this.readings.delete(name)
        refused.set(name, e instanceof FailureError ? e.failure.message : meaningOf(e, name, this.user).failure.message)
      }
    }
    const said = (m: ReadonlyMap<string, string>) => [...m].join('\n')
    if (said(refused) === said(this.refused)) return
    this.refused = refused
    this.sink.refused(refused)
  }

  /** Goes on where it was read last, if the table is still the one that it was. */
  private async readingOf(client: pg.Client, name: string, table: Table): Promise<Reading> {
    const there = this.readings.get(name)
    const written = this.restored.get(name)
    const fresh = { table, parts: new Map<string, Parts>(), endAt: Number.NEGATIVE_INFINITY }
    const known: Reading | null = there ?? (written ? { ...written, numbers: new Numbers(written.numbers), ...fresh } : null)
    const absentAt = known ? undefined : this.absent.get(name)
    const same = known && (await this.isSame(client, table, known.numbers.through, known.last))
    const reading = same
      ? Object.assign(known, { table, endAt: Number.NEGATIVE_INFINITY })
      : // A table that was not there a while ago holds nothing older.
        absentAt === undefined
        ? await this.fromNow(client, table)
        : { ...fresh, since: absentAt, numbers: new Numbers(), last: null }
    this.restored.delete(name)
    this.absent.delete(name)
    return reading
  }

  /** Null: it is not there. */
  private async lookAt(client: pg.Client, name: string): Promise<Table | null> {
    const table = await tableOf(client, name)
    if (!table) return null
    for (const column of [this.s.rowColumn, this.s.idColumn])
      if (column !== '' && !table.columns.has(column)) throw fail(404, 'table.no-column', `it has no column ${column}`, 'Add it', 'witness')
    return table
  }

  /** Whether the row that was read last is still the one that it was. */
  private async isSame(client: pg.Client, table: Table, through: number, last: string | null): Promise<boolean> {
    const { rows } = await client.query<{ who: string | null }>(`select ${this.whoText('t')} as who from ${this.lastRow(table)}`, [through])
    return sameRow(through, rows[0]?.who ?? null, last)
  }

  private lastRow(table: Table): string {
    return `${table.quoted} t where ${quoted(this.s.rowColumn)} = $1`
  }

  /** Who a row is: by its id, or by the transaction that wrote it. */
  private whoText(row: string): string {
    const id = this.s.idColumn === '' ? 'null' : `${row}.${quoted(this.s.idColumn)}::text`
    return `coalesce(${id}, ${row}.xmin::text)`
  }

  private idText(row: string): string {
    return this.s.idColumn === '' ? 'null' : `(${row}).${quoted(this.s.idColumn)}::text`
  }

  /** What was there before anybody watched is nobody's concern. */
  private async fromNow(client: pg.Client, table: Table): Promise<Reading> {
    const row = quoted(this.s.rowColumn)
    const since = this.clock.mono()
    const { rows } = await client.query<{ n: string; who: string | null }>(
      `select ${row}::text as n, ${this.whoText('t')} as who from ${table.quoted} t order by ${row} desc nulls last limit 1`,
    )
    const numbers = new Numbers({ through: Number(rows[0]?.n ?? 0), left: [] })
    return { table, since, numbers, last: rows[0]?.who ?? null, parts: new Map(), endAt: Number.NEGATIVE_INFINITY }
  }

  private async run(client: pg.Client): Promise<void> {
    while (this.client === client) {
      try {
        if (this.tables().some((t) => !this.readings.has(t)) && this.clock.mono() - this.lookedAt >= LOOK_AGAIN_MS) await this.begin(client, false)
        let more = false
        for (const [name, reading] of this.readings) {
          while (this.unwritten > UNWRITTEN_MOST && this.client === client) {
            this.sink.hurry()
            await new Promise<void>((done) => {
              this.wake = done
            })
          }
          if (this.client !== client) return
          if (await this.read(client, name, reading)) more = true
        }
        if (!more) await sleep(this.clock, this.s.readEveryMs)
      } catch (e) {
        if (this.client === client) this.lost(e)
        return
      }
    }
  }

  /** @returns whether there may be more at once */
  private async read(client: pg.Client, name: string, reading: Reading): Promise<boolean> {
    const { numbers, table } = reading
    const row = quoted(this.s.rowColumn)
    const at = this.clock.mono()
    this.askedAt = at
    const { left } = numbers
    const { rows } = await client.query<Asked & { oldest: string; next: string; proof: string | null }>(
      `with s as (select pg_snapshot_xmin(pg_current_snapshot())::text as oldest, pg_snapshot_xmax(pg_current_snapshot())::text as next,
          (select ${this.whoText('t')} from ${this.lastRow(table)}) as proof),
        new as (select ${row} as n, ${this.whoText('t')} as who, t as r from ${table.quoted} t where ${row} > $1 order by ${row} limit ${ROWS_MOST}),
        old as (select ${row} as n, null as who, t as r from unnest($2::bigint[], $3::bigint[]) g(a, b) join ${table.quoted} t on ${row} between g.a and g.b)
      select s.oldest, s.next, s.proof, x.n::text as n, x.who, ${this.idText('x.r')} as id, to_json(x.r)::text as row
      from s left join (select * from old union all select * from new) x on true order by x.n`,
      [numbers.through, left.map((g) => g.from), left.map((g) => g.to)],
    )
    this.askedAt = null
    if (this.client !== client || this.readings.get(name) !== reading) return false
    const [first] = rows
    if (!first) return false
    if (!this.replaced.has(name) && !sameRow(numbers.through, first.proof, reading.last)) {
      // Emptied, or as it was before: it is read on from here, and what went there until now nobody can say anything of.
      this.readings.set(name, await this.fromNow(client, table))
      this.changed = true
      return false
    }
    const came = rows.filter((r) => r.n !== null)
    const whole = came.filter((r) => Number(r.n) > numbers.through).length < ROWS_MOST
    const snapshot = { oldest: BigInt(first.oldest), next: BigInt(first.next) }
    const values = came.map((r) => parseExact(r.row) as Row)
    // A column that came since: the table is looked at again, so that it is known whether it fills itself.
    if (values.some((row) => Object.keys(row).some((column) => !reading.table.columns.has(column))))
      reading.table = (await this.lookAt(client, name)) ?? reading.table
    if (this.client !== client || this.readings.get(name) !== reading) return false
    // From here on nothing is waited for: what is taken is told.
    const highest = came.at(-1)
    if (highest && Number(highest.n) > numbers.through) reading.last = highest.who
    const all = numbers.took(
      came.map((r) => Number(r.n)),
      whole,
      snapshot,
      at,
    )
    if (!all) reading.since = at
    came.forEach((r, i) => {
      this.row(name, reading, r, values[i]!)
    })
    if (whole) {
      // What is missing of a message now was never written, or was taken away.
      for (const id of [...reading.parts.keys()]) this.tell(name, reading, id)
      reading.endAt = at
    }
    return !whole
  }

  private row(name: string, reading: Reading, { n, id }: Asked, all: Row): void {
    // Without a prototype: a column may be called __proto__.
    const values: Record<string, unknown> = Object.create(null)
    for (const [column, { own }] of reading.table.columns) if (!own && column !== this.s.idColumn) values[column] = all[column]
    const { id: of, k, of: count } = id === null ? { id: '', k: 0, of: 1 } : readRowId(id)
    if (count === 1) return this.sighting(name, reading, id, [values], [Number(n)])
    // Once more the same row: it is another copy of the message.
    if (reading.parts.get(of)?.rows.has(k)) this.tell(name, reading, of)
    const parts: Parts = reading.parts.get(of) ?? { rows: new Map(), numbers: [] }
    reading.parts.set(of, parts)
    parts.rows.set(k, values)
    parts.numbers.push(Number(n))
    if (parts.rows.size === count) this.tell(name, reading, of)
  }

  private tell(name: string, reading: Reading, id: string): void {
    const parts = reading.parts.get(id)
    reading.parts.delete(id)
    if (!parts) return
    const rows = [...parts.rows].sort(([a], [b]) => a - b).map(([, row]) => row)
    this.sighting(name, reading, id, rows, parts.numbers)
  }

  private sighting(topic: string, reading: Reading, id: string | null, rows: readonly Row[], numbers: readonly number[]): void {
    this.unwritten++
    this.changed = true
    this.sink.sighting({
      id,
      topic,
      // Of a row that is replaced, columns that the message does not have stay as they were.
      digest: this.replaced.has(topic) ? null : digest(Buffer.from(plainRows(rows))),
      at: this.clock.wall(),
      mono: this.clock.mono(),
      repeated: false,
      held: false,
      comesAgain: true,
      token: { reading, numbers } satisfies Token,
    })
  }

  counted(token: unknown): void {
    const { reading, numbers } = token as Token
    reading.numbers.counted(numbers)
    this.changed = true
  }

  safe(): void {
    this.unwritten--
    if (this.unwritten <= UNWRITTEN_MOST) this.wake()
  }

  async watch(filters: readonly string[]): Promise<void> {
    this.wanted = filters
    // What went out under the filters before may still come.
    this.replaced = new Set([...this.replaced, ...withKeys(filters)])
    const { client } = this
    // While it connects too: what is being looked at then was wanted before.
    if (client) await this.begin(client, false).catch((e: unknown) => this.client === client && this.connectedAt !== null && this.lost(e))
  }

  release(needed: readonly string[]): void {
    this.replaced = new Set(withKeys([...this.wanted, ...needed]))
    const tables = new Set([...this.tables(), ...needed.map((read) => tableRead(read).table)])
    for (const name of this.readings.keys())
      if (!tables.has(name)) {
        this.readings.delete(name)
        this.changed = true
      }
    for (const known of [this.restored, this.absent]) for (const name of known.keys()) if (!tables.has(name)) known.delete(name)
  }

  view(): WitnessView | null {
    if (this.connectedAt === null) return null
    const ends = [...this.readings.values()].map((r) => r.endAt)
    return {
      connectedAt: this.connectedAt,
      clearAt: ends.length === 0 ? this.connectedAt : Math.min(...ends),
      // Rows come to be seen in no order that is known.
      seenAt: Number.NEGATIVE_INFINITY,
      seenAnyAt: Number.NEGATIVE_INFINITY,
      // A row may be replaced before it was read: what was not seen there may have arrived all the same.
      coveredSince: (topic) => (this.replaced.has(topic) ? Number.POSITIVE_INFINITY : (this.readings.get(topic)?.since ?? Number.POSITIVE_INFINITY)),
    }
  }

  probe(): void {
    // It asks all the time.
  }

  silentMs(): number {
    return this.askedAt === null ? 0 : this.clock.mono() - this.askedAt
  }

  private lost(e: unknown): void {
    this.drop()
    this.sink.lost(e instanceof FailureError ? e.failure : lostFailure(e, this.user, 'witness'))
  }

  private drop(): void {
    const { client } = this
    this.client = null
    this.connectedAt = null
    this.askedAt = null
    if (client) hangUp(client)
    this.wake()
  }

  close(): void {
    this.drop()
  }
}

const sameRow = (through: number, now: string | null, before: string | null) => through === 0 || (now !== null && now === before)
const withKeys = (reads: readonly string[]): string[] => reads.map(tableRead).flatMap((r) => (r.keys.length > 0 ? [r.table] : []))

const onStandby: Failure = {
  code: 'table.standby',
  message: 'The witness reads at a standby server, which may be behind',
  hint: 'Read at the primary server',
  where: 'witness',
}
