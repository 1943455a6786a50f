import type { Fill, FillScalar } from '~/contract/fill'
import type { EpochMs } from '~/contract/id'
import type { LookupTable } from '~/contract/step'
import type { DataType } from '~/contract/tag'
import type { WireScalar } from '~/contract/value'
import type { LookedUp } from '../../rows/looked-up'
import type { Scalar } from '../../value/deadband'
import { isoOf } from '../../value/iso-time'
import { qualityOf, Status } from '../../value/quality'
import { fromWire, toWire } from '../../value/wire'
import { finish } from './basic'
import { type Cell, Held, NO_TIME, type Remembering, type ValueArrays, worse } from './cell'

type Of<K extends Fill['kind']> = Extract<Fill, { kind: K }>

/** What a cell that is made from another one shares with all such. */
abstract class Made extends Held implements Cell {
  problem: string | null = null
  readonly handles: readonly number[]
  readonly width: number
  readonly timed: boolean
  constructor(
    protected readonly input: Cell,
    width: number,
    timed = false,
  ) {
    super()
    this.handles = input.handles
    this.width = width
    this.timed = timed || (input.timed ?? false)
  }

  protected abstract make(now: EpochMs): void

  read(from: ValueArrays, now: EpochMs): void {
    this.input.read(from, now)
    this.status = this.input.status
    this.time = this.input.time
    this.problem = this.input.problem
    this.value = null
    this.make(now)
    this.keepGood()
  }
}

/** The furthest moment from 1970 that there is, ms (ECMA-262 21.4.1.1). */
const TIME_MOST = 8.64e15

/** A value of one type as one of another, where people would say that it is the same; null: it cannot be. */
export function brought(value: Scalar, to: DataType): Scalar {
  if (value === null) return null
  if (to === 'number' || to === 'integer') {
    const number = typeof value === 'string' ? asNumber(value) : value
    if (to === 'integer' && typeof number === 'number') return Number.isFinite(number) ? Math.round(number) : null
    return number
  }
  if (to === 'boolean' && typeof value === 'string') return /^(true|1|on|yes)$/i.test(value) ? true : /^(false|0|off|no)$/i.test(value) ? false : null
  if (to === 'time' && (typeof value === 'number' || typeof value === 'bigint'))
    return Math.abs(Number(value)) <= TIME_MOST ? isoOf(Number(value)) : null
  return value
}

const asNumber = (text: string): number | null => {
  const trimmed = text.trim()
  if (trimmed === '') return null
  const number = Number(trimmed)
  if (!Number.isNaN(number)) return number
  const time = /^\d{4}-\d\d-\d\dT/.test(trimmed) ? Date.parse(trimmed) : Number.NaN
  return Number.isNaN(time) ? null : time
}

/** In another unit or of another type. Times as numbers are ms since 1970. */
export class As extends Made {
  constructor(
    private readonly fill: Of<'as'>,
    private readonly dataType: DataType,
    input: Cell,
  ) {
    super(input, input.width * Math.abs(fill.factor))
  }
  protected make(): void {
    const { value } = this.input
    if (value === null) return
    this.value = finish(brought(value, this.dataType), this.fill.factor, this.fill.offset, this.dataType)
    if (this.value !== null || qualityOf(this.status) === 'bad') return
    this.status = Status.typeMismatch
    this.problem = `${String(value).slice(0, 40)} is no ${this.dataType}`
  }
}

/** A table made ready: from the text in its first column to what stands in another. */
export class Table {
  private readonly columns = new Map<number, { types: DataType; rows: Map<string, Scalar> }>()
  constructor(private readonly table: LookupTable) {}

  /** What a column holds: numbers where all of it are, else true and false, else text. Empty places say nothing. */
  typeOf(column: number): DataType {
    return this.column(column).types
  }

  /** Undefined: the table does not have it; null: its place is empty. */
  at(column: number, key: string): Scalar | undefined {
    return this.column(column).rows.get(key)
  }

  private column(n: number) {
    let made = this.columns.get(n)
    if (made) return made
    const texts = this.table.rows.map((r) => r[n] ?? '').filter((t) => t !== '')
    const all = (is: (t: string) => boolean) => texts.length > 0 && texts.every(is)
    const types: DataType = all((t) => t.trim() !== '' && Number.isFinite(Number(t)))
      ? 'number'
      : all((t) => t === 'true' || t === 'false')
        ? 'boolean'
        : 'text'
    const rows = new Map<string, Scalar>()
    for (const r of this.table.rows) rows.set(r[0]!, valueIn(r[n] ?? '', types))
    this.columns.set(n, (made = { types, rows }))
    return made
  }
}

/** What a text of a table is as a value of its column. */
export function valueIn(text: string, type: DataType): FillScalar | null {
  if (text === '') return null
  return type === 'number' ? Number(text) : type === 'boolean' ? text === 'true' : text
}

export class Lookup extends Made {
  constructor(
    private readonly fill: Of<'lookup'>,
    private readonly table: Table,
    input: Cell,
  ) {
    super(input, 0)
  }
  protected make(): void {
    const { value } = this.input
    if (value === null) return
    const found = this.table.at(this.fill.column, String(value))
    this.value = found === undefined ? this.fill.otherwise : found
    if (this.value !== null || qualityOf(this.status) === 'bad') return
    this.status = Status.noData
    this.problem = found === undefined ? `The table has no ${String(value).slice(0, 40)}` : null
  }
}

/** Something out of a row of a source. `tick` is touched when its rows are read again. */
export class FromRecord extends Held implements Cell {
  problem: string | null = null
  readonly handles: readonly number[]
  readonly width = 0
  readonly timed: boolean
  constructor(
    private readonly fill: Of<'record'>,
    private readonly rows: LookedUp,
    private readonly input: Cell,
    tick: number,
  ) {
    super()
    this.handles = [...input.handles, tick]
    this.timed = input.timed ?? false
  }

  read(from: ValueArrays, now: EpochMs): void {
    const { input, rows } = this
    input.read(from, now)
    this.status = input.status
    this.time = input.time
    this.problem = input.problem
    this.value = null
    if (!rows.known) this.status = Status.waitingForInitialData
    else if (input.value !== null) this.look(String(input.value))
    this.keepGood()
  }

  private look(name: string): void {
    const { source } = this.rows.is
    const row = this.rows.of(name)
    const stale = this.rows.problem
    if (row) {
      this.value = row.values[this.fill.column] ?? null
      const own = row.status[this.fill.column] ?? Status.noData
      const status = stale !== null && qualityOf(own) === 'good' ? Status.lastUsable : own
      if (worse(this.status, status)) this.status = status
    } else if (qualityOf(this.status) !== 'bad') this.status = row === null ? Status.noCommunication : Status.noData
    if (stale !== null) this.problem = `${source}: ${stale}`
    else if (!row) this.problem = `${source} has no ${name.slice(0, 40)}`
  }
}

/**
 * First-order filter of what is held between its changes: `y` moves towards the input by `1 - exp(-dt / T)` of the way. A bad
 * input leaves it where it was; a clock that is set back holds it.
 */
export class Smooth extends Made implements Remembering {
  private y: number | null = null
  private held = 0
  private at = 0
  private readonly ms: number
  constructor({ seconds }: Of<'smooth'>, input: Cell) {
    super(input, input.width, true)
    this.ms = seconds * 1000
  }
  memory(): string | null {
    return this.y === null ? null : JSON.stringify([this.y, this.held, this.at])
  }
  remember(kept: string): void {
    const [y, held, at] = JSON.parse(kept) as unknown[]
    if (![y, held, at].every((n) => Number.isFinite(n))) return
    this.y = y as number
    this.held = held as number
    this.at = at as number
  }
  protected make(now: EpochMs): void {
    const { value, status } = this.input
    if (this.y !== null) {
      const dt = Math.max(0, now - this.at)
      this.y = this.held + (this.y - this.held) * Math.exp(-dt / this.ms)
      // So near that nobody sees a difference it has arrived.
      if (Math.abs(this.y - this.held) <= Math.abs(this.held) * 1e-9) this.y = this.held
    }
    this.at = now
    if (qualityOf(status) === 'bad' || (typeof value !== 'number' && typeof value !== 'bigint')) return
    this.held = Number(value)
    this.y ??= this.held
    this.value = this.y === 0 ? 0 : this.y
  }
}

/** A value that was good, and when. */
interface Known {
  value: Scalar
  time: EpochMs
}

/** What stands in for a bad value: the last good one as last usable, or what the line through the last two gives as sub-normal. */
export class Bridge extends Made implements Remembering {
  private before: Known | null = null
  private last: Known | null = null
  private badSince: EpochMs | null = null
  constructor(
    private readonly fill: Of<'bridge'>,
    input: Cell,
  ) {
    super(input, input.width, true)
  }
  memory(): string | null {
    const wire = (v: Known | null) => v && { value: toWire(v.value), time: v.time }
    return this.last && JSON.stringify([wire(this.last), wire(this.before)])
  }
  remember(kept: string): void {
    const [last, before] = JSON.parse(kept) as ({ value: WireScalar; time: EpochMs | null } | null)[]
    const known = (v: typeof last | undefined): Known | null => (v ? { value: fromWire(v.value), time: v.time ?? NO_TIME } : null)
    this.last = known(last)
    this.before = known(before)
  }
  protected make(now: EpochMs): void {
    const { value, time, status } = this.input
    if (qualityOf(status) !== 'bad' && value !== null) {
      this.badSince = null
      this.value = value
      if (status >>> 30 !== 0) return
      if (this.last && this.last.time !== time) this.before = this.last
      this.last = { value, time }
      return
    }
    if (!this.last) return
    this.badSince ??= now
    const { seconds, by } = this.fill
    if (seconds !== null && now - this.badSince > seconds * 1000) return
    const line = by === 'line' ? this.line(now) : null
    this.value = line ?? this.last.value
    this.status = line === null ? Status.lastUsable : Status.subNormal
    this.time = line === null ? this.last.time : now
    this.problem = null
  }

  private line(now: EpochMs): number | null {
    const { before, last } = this
    if (!before || !last || typeof before.value !== 'number' || typeof last.value !== 'number' || !(last.time > before.time)) return null
    const y = last.value + ((last.value - before.value) / (last.time - before.time)) * Math.max(0, now - last.time)
    return Number.isFinite(y) ? y : null
  }
}
