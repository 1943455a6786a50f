import type pg from 'pg'
import { columnsOf } from '~/contract/addresses/table'
import type { TableSettings } from '~/contract/destinations/table'
import { type Failure, fail } from '~/contract/failure'
import { unpackProperties } from '~/core/delivery/properties'
import type { Row } from '~/core/value/plain-rows'
import type { Clock } from '../../clock/clock'
import { hangUp } from '../../net/postgres'
import { BatchLane, type BatchLimits, type Entry, freshMemory, type LaneMemory } from '../batch-lane'
import type { Answer, DestinationConnection, DestinationSink, Outgoing, Remembered } from '../driver'
import { filledIn, rowsOf, withIds } from '../rows'
import { connectTable, type TableUser } from './access'
import { lostFailure, meaningOf } from './answers'
import { isName, making, missingIn, type Table, tableOf } from './catalog'
import { keyOf, writing } from './statement'

const KB = 1000
/** After so long without an answer to anything it is asked whether the server is there, ms. */
const PROBE_MS = 15_000
/** What a table lacked is looked for again so often at most, ms. */
const LOOK_AGAIN_MS = 1000
const memoryKey = 'table lanes'

/** A message as rows. */
export interface Sending {
  id: string
  rows: readonly Row[]
  text: string
  filled: readonly string[]
}

interface Memory extends LaneMemory<Sending> {
  way: string
}

/** What is known of one table, and when it was looked at (monotonic ms). */
interface Known {
  table: Table | null
  at: number
}

/** Messages of one table that are replaced by the same keys. */
class TableLane extends BatchLane<Sending> {
  constructor(
    readonly table: string,
    readonly keys: readonly string[],
    memory: LaneMemory<Sending>,
  ) {
    super(`${table} ${keys.join(', ')}`, memory)
  }
}

/**
 * Writes messages as rows, many in one statement, and one statement after the other over one connection. What is acknowledged is
 * committed. A batch whose answer was lost goes again: where the column of the id is unique, it is kept once.
 */
export class TableSender implements DestinationConnection {
  readonly window: number
  readonly keepsTime = true
  private readonly most: BatchLimits
  private readonly lanes = new Map<string, TableLane>()
  private readonly known = new Map<string, Known>()
  private busy = false
  private closed = false
  private heardAt: number
  private idle: (() => void)[] = []
  private stopTimer: (() => void) | null = null
  private readonly stopProbing: () => void
  private client!: pg.Client

  private constructor(
    private readonly user: TableUser,
    private readonly s: TableSettings,
    private readonly sink: DestinationSink,
    private readonly clock: Clock,
    private readonly memory: LaneMemory<Sending>,
  ) {
    this.window = s.window
    this.most = { octets: s.batchKb * KB, count: s.batchMost }
    this.heardAt = clock.mono()
    this.stopProbing = clock.every(PROBE_MS, () => void this.probe())
  }

  static async begin(user: TableUser, s: TableSettings, sink: DestinationSink, clock: Clock, remembered: Remembered): Promise<TableSender> {
    // What went elsewhere cannot go again as it was.
    const way = `${s.host}:${s.port}/${s.database} ${s.idColumn}`
    const known = remembered.get(memoryKey) as Memory | undefined
    const memory: Memory = known?.way === way ? known : { ...freshMemory<Sending>(), way }
    remembered.set(memoryKey, memory)
    const sender = new TableSender(user, s, sink, clock, memory)
    try {
      sender.client = await connectTable(user, (e) => sender.lost(e))
      sender.client.on('end', () => sender.lost(new Error('it was ended there')))
    } catch (e) {
      sender.close()
      throw e
    }
    return sender
  }

  ready(): boolean {
    return true
  }

  unfit({ envelope }: Outgoing): Failure | null {
    const rows = rowsOf(envelope)
    if (!rows)
      return {
        code: 'table.no-rows',
        message: `${envelope.topic}: the message is no JSON object, nor a list of them`,
        hint: 'Take the shape Rows as JSON, or flat JSON',
        where: 'destination',
      }
    const { idColumn, rowColumn } = this.s
    const bad = filledIn(rows.rows).find((name) => !isName(name) || name === idColumn || name === rowColumn)
    const keyless = columnsOf(unpackProperties(envelope.properties).how ?? '').find((k) => rows.rows.some((r) => r[k] === null || r[k] === undefined))
    if (keyless !== undefined)
      return {
        code: 'table.no-key-value',
        message: `${envelope.topic}: there is no ${keyless}, by which a row is known again`,
        hint: 'Send it in each message, or correct the keys of rows',
        where: 'destination',
      }
    if (bad === undefined) return null
    return {
      code: 'table.name',
      message: `${envelope.topic}: ${bad.slice(0, 100)} can be no column of the message`,
      hint: 'Names have 63 octets at most; those of the id and the row number are filled by Embrik and the table',
      where: 'destination',
    }
  }

  send(m: Outgoing, answer: (a: Answer) => void): void {
    const { topic, properties } = m.envelope
    const how = unpackProperties(properties).how ?? ''
    const place = `${topic} ${how}`
    const lane = this.lanes.get(place) ?? new TableLane(topic, columnsOf(how), this.memory)
    this.lanes.set(place, lane)
    if (lane.has(m.ordinal)) return answer({ kind: 'has' })
    if (m.alone) lane.dissolve()
    const { rows, text } = rowsOf(m.envelope)!
    const record: Sending = { id: m.id, rows, text, filled: filledIn(rows) }
    lane.add({ ordinal: m.ordinal, record, octets: text.length + m.id.length + 20, answer, alone: m.alone }, this.clock.mono())
    this.pump()
  }

  /** Sends what is due: one statement at a time. */
  private pump(): void {
    if (this.closed || this.busy) return
    const now = this.clock.mono()
    let wait = false
    for (const [place, lane] of this.lanes) {
      if (lane.due(now, { lingerMs: this.s.lingerMs, most: this.most })) {
        // Whose turn it was is the last the next time.
        this.lanes.delete(place)
        this.lanes.set(place, lane)
        void this.write(lane)
        return
      }
      if (lane.waiting.length > 0) wait = true
      else this.lanes.delete(place)
    }
    if (wait)
      this.stopTimer ??= this.clock.after(Math.max(1, this.s.lingerMs), () => {
        this.stopTimer = null
        this.pump()
      })
  }

  private async write(lane: TableLane): Promise<void> {
    this.busy = true
    const sent = lane.take(this.most).entries.map(({ record }) => record)
    try {
      const table = await this.tableFor(lane, sent)
      const without = unwritable(table, sent)
      if (without) this.apart(lane, without)
      else await this.insert(lane, table, sent)
    } catch (e) {
      if (!this.closed) this.failed(lane, e)
    } finally {
      this.busy = false
      for (const done of this.idle.splice(0)) done()
    }
    this.pump()
  }

  private async insert(lane: TableLane, table: Table, sent: readonly Sending[]): Promise<void> {
    const statements = this.statements(lane, table, sent)
    const several = statements.length > 1
    if (several) await this.client.query('begin')
    try {
      for (const { text, rows } of statements) await this.client.query(text, [rows])
      if (several) await this.client.query('commit')
    } catch (e) {
      if (several && !this.closed) await this.client.query('rollback').catch(() => undefined)
      throw e
    }
    if (this.closed) return
    const now = this.clock.mono()
    this.heardAt = now
    for (const { answer } of lane.kept(now)) answer({ kind: 'has' })
  }

  /** Rows that are added go in one statement; of those that replace others, only what has the same columns: the rest of a row stays. */
  private statements(lane: TableLane, table: Table, sent: readonly Sending[]): { text: string; rows: string }[] {
    const { idColumn, rowColumn } = this.s
    const { keys } = lane
    const write = (columns: readonly string[]) => writing({ table, columns, keys, idColumn, rowColumn })
    const all = (which: readonly Sending[]) => `[${which.map((m) => withIds(m, m.id, idColumn)).join(',')}]`
    if (keys.length === 0) {
      const filled = [...new Set(sent.flatMap((m) => m.filled))].sort()
      const rows = sent.flatMap((m) => m.rows)
      return [{ text: write(filled.length > 0 ? filled : columnsIn(rows, table)), rows: all(sent) }]
    }
    const out: { columns: string; keys: Set<string>; sent: Sending[] }[] = []
    for (const m of sent) {
      const columns = JSON.stringify(columnsIn(m.rows, table))
      const own = m.rows.map((r) => keyOf(r, keys))
      const last = out.at(-1)
      if (last && last.columns === columns && !own.some((k) => last.keys.has(k))) {
        last.sent.push(m)
        for (const k of own) last.keys.add(k)
      } else out.push({ columns, keys: new Set(own), sent: [m] })
    }
    return out.map((o) => ({ text: write(JSON.parse(o.columns) as string[]), rows: all(o.sent) }))
  }

  /** The table as it is, with what is missing made where that is wanted. */
  private async tableFor(lane: TableLane, sent: readonly Sending[]): Promise<Table> {
    const rows = sent.flatMap((m) => m.rows)
    const { make, idColumn, rowColumn } = this.s
    let known = this.known.get(lane.table)
    const lacks = (table: Table | null) => table === null || missingIn(table, rows).size > 0 || (idColumn !== '' && !table.columns.has(idColumn))
    if (!known || (lacks(known.table) && this.clock.mono() - known.at >= LOOK_AGAIN_MS)) known = await this.look(lane.table)
    const missing = missingIn(known.table, rows)
    if (make && lacks(known.table)) {
      if (known.table && idColumn !== '' && !known.table.columns.has(idColumn)) missing.set(idColumn, 'text')
      for (const text of making(lane.table, known.table, missing, { idColumn, rowColumn, keys: lane.keys })) await this.client.query(text)
      known = await this.look(lane.table)
    }
    const { table } = known
    if (!table) throw fail(404, 'table.no-table', `There is no table ${lane.table}`, 'Make it, or let Embrik make what is missing', 'destination')
    if (idColumn !== '' && !table.columns.has(idColumn))
      throw fail(
        404,
        'table.no-id-column',
        `${lane.table} has no column ${idColumn} for the id`,
        'Add it (text, unique), or name another one in the destination',
        'destination',
      )
    return table
  }

  private async look(place: string): Promise<Known> {
    const known: Known = { table: await tableOf(this.client, place), at: this.clock.mono() }
    this.known.set(place, known)
    return known
  }

  /** Some have columns that cannot be written: those go aside, the others go on. */
  private apart(lane: TableLane, without: { column: string; own: boolean }): void {
    const now = this.clock.mono()
    if ((lane.flying?.length ?? 0) > 1) return lane.apart(now)
    const failure: Failure = without.own
      ? {
          code: 'table.own-column',
          message: `${lane.table}: the column ${without.column} fills itself`,
          hint: 'Take its default away, or give the member another name',
          where: 'destination',
        }
      : {
          code: 'table.no-column',
          message: `${lane.table} has no column ${without.column}`,
          hint: 'Add it, or let Embrik make what is missing; then what is aside can be sent again',
          where: 'destination',
        }
    for (const { answer } of lane.refused(now)) answer({ kind: 'refused', failure })
  }

  private failed(lane: TableLane, e: unknown): void {
    const now = this.clock.mono()
    const { meaning, failure } = meaningOf(e, lane.table, this.user)
    if (meaning === 'lost') return this.lost(e)
    this.heardAt = now
    // It may be another table than the one that was looked at.
    this.known.delete(lane.table)
    if (meaning === 'split' && (lane.flying?.length ?? 0) > 1) return lane.apart(now)
    if (meaning === 'split' || meaning === 'refused') {
      for (const { answer } of lane.refused(now)) answer({ kind: 'refused', failure })
      return
    }
    const later: Answer = { kind: 'later', failure, ...(meaning === 'later' && { place: true }) }
    const behind = meaning === 'later' ? [lane] : [...this.lanes.values()]
    const flown: readonly Entry<Sending>[] = lane.failed(now)
    for (const { answer } of [...flown, ...behind.flatMap((l) => l.clear())]) answer(later)
  }

  /** Nobody knows whether the last statement was kept: it goes again as it was. */
  private lost(e: unknown): void {
    if (this.closed) return
    this.close()
    this.sink.down(lostFailure(e, this.user))
  }

  async heard(): Promise<void> {
    if (this.closed) return
    if (this.busy) await new Promise<void>((done) => this.idle.push(done))
    await this.probe(true)
  }

  /** Whether the server is there, while nothing is sent. */
  private async probe(now = false): Promise<void> {
    if (this.closed || this.busy || (!now && this.clock.mono() - this.heardAt < PROBE_MS)) return
    try {
      await this.client.query('select 1')
      this.heardAt = this.clock.mono()
    } catch (e) {
      this.lost(e)
    }
  }

  close(): void {
    if (this.closed) return
    this.closed = true
    this.stopTimer?.()
    this.stopProbing()
    for (const lane of this.lanes.values()) lane.unknown(this.clock.mono())
    // It may be over before there is one.
    if (this.client as pg.Client | undefined) hangUp(this.client)
    for (const done of this.idle.splice(0)) done()
  }
}

/** Columns that rows say something of, be it that there is nothing. */
const columnsIn = (rows: readonly Row[], table: Table): string[] =>
  [...new Set(rows.flatMap((r) => Object.keys(r)))].filter((c) => table.columns.get(c)?.own === false).sort()

/** A column of these messages that cannot be written; null: all can. */
function unwritable(table: Table, sent: readonly Sending[]): { column: string; own: boolean } | null {
  for (const { filled } of sent)
    for (const column of filled) {
      const there = table.columns.get(column)
      if (!there || there.own) return { column, own: there?.own === true }
    }
  return null
}
