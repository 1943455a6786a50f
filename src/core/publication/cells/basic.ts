import type { Fill } from '~/contract/fill'
import type { EpochMs } from '~/contract/id'
import type { DataType } from '~/contract/tag'
import { type Compiled, compiledOnce } from '../../expression/compile'
import { conform } from '../../value/datatype'
import type { Scalar } from '../../value/deadband'
import { qualityOf, Status } from '../../value/quality'
import { isTorn, wellFormed } from '../../value/well-formed'
import { fitsSigned64 } from '../../value/whole'
import { type Cell, Held, NO_TIME, type ValueArrays, worse } from './cell'

export class Constant implements Cell {
  readonly status = Status.good
  readonly time = NO_TIME
  readonly goodValue: Scalar
  readonly goodTime = NO_TIME
  readonly handles: readonly number[] = []
  readonly width = 0
  readonly problem = null
  readonly value: Scalar
  constructor(value: Scalar) {
    this.value = this.goodValue = typeof value === 'string' ? wellFormed(value) : value === 0 ? 0 : value
  }
  read(): void {}
}

/** A value that came out of the step before, as it is. */
export class FromRow extends Held implements Cell {
  readonly handles: readonly number[]
  readonly width = 0
  readonly problem = null
  constructor({ place }: Extract<Fill, { kind: 'row' }>) {
    super()
    this.handles = [place]
  }
  read(from: ValueArrays): void {
    const [place] = this.handles
    this.value = from.value[place!] ?? null
    this.status = from.status[place!] ?? Status.waitingForInitialData
    this.time = from.time[place!] ?? NO_TIME
    this.keepGood()
  }
}

export class FromTag extends Held implements Cell {
  readonly handles: readonly number[]
  readonly width: number
  readonly problem = null
  constructor(
    private readonly fill: Extract<Fill, { kind: 'tag' }>,
    private readonly dataType: DataType,
    private readonly signed: boolean,
  ) {
    super()
    this.handles = [fill.handle]
    this.width = fill.width * Math.abs(fill.factor)
  }
  read(from: ValueArrays): void {
    const h = this.fill.handle
    this.status = from.status[h] ?? Status.waitingForInitialData
    const raw = from.value[h] ?? null
    // Before the first value its time stands at nothing, not at 1970.
    this.time = this.status === Status.waitingForInitialData && raw === null ? NO_TIME : (from.time[h] ?? NO_TIME)
    this.value = finish(raw, this.fill.factor, this.fill.offset, this.dataType)
    if (typeof this.value === 'string' && this.value !== raw && this.status >>> 30 === 0 && isTorn(raw)) this.status = Status.subNormal
    if (typeof raw === 'bigint') this.large(raw)
    this.keepGood()
  }

  /** What became of a whole number beyond 2^53: kept, rounded (uncertain), or more than the shape holds (bad, without a value). */
  private large(raw: bigint): void {
    const { value } = this
    if (this.signed && typeof value === 'bigint' && !fitsSigned64(value)) {
      this.value = null
      if (this.status >>> 31 === 0) this.status = Status.outOfRange
    } else if (this.status >>> 30 === 0 && typeof value === 'number' && (converts(this.fill) || BigInt(Math.trunc(value)) !== raw))
      this.status = Status.subNormal
    else if (this.status >>> 30 === 0 && typeof value === 'bigint' && converts(this.fill)) this.status = Status.subNormal
  }
}

const converts = (fill: { factor: number; offset: number }) => fill.factor !== 1 || fill.offset !== 0

/**
 * The value in the member's unit and type. Beyond 2^53 a conversion rounds. What formats disagree about is settled here, for all
 * of them: minus zero is zero, and half a surrogate pair is U+FFFD.
 */
export function finish(value: Scalar, factor: number, offset: number, dataType: DataType): Scalar {
  if (value === null) return null
  const moved = (typeof value === 'number' || typeof value === 'bigint') && (factor !== 1 || offset !== 0) ? Number(value) * factor + offset : value
  const fit = conform(moved, dataType)
  if (fit === 0) return 0
  return typeof fit === 'string' ? wellFormed(fit) : fit
}

export class Computed extends Held implements Cell {
  readonly handles: readonly number[]
  readonly width = 0
  problem: string | null = null
  readonly timed: boolean
  private readonly compiled: Compiled | null
  private readonly args: Scalar[]
  constructor(
    private readonly fill: Extract<Fill, { kind: 'expression' }>,
    private readonly dataType: DataType,
    private readonly signed: boolean,
    private readonly inputs: readonly Cell[],
  ) {
    super()
    this.handles = [...new Set(inputs.flatMap((i) => i.handles))]
    this.timed = inputs.some((i) => i.timed)
    this.args = this.inputs.map(() => null)
    const compiled = compiledOnce(fill.text, fill.inputs)
    this.compiled = 'run' in compiled ? compiled : null
    if (!('run' in compiled)) this.problem = compiled.message
  }
  read(from: ValueArrays, now: EpochMs): void {
    let status: number = Status.good
    let time = Number.NEGATIVE_INFINITY
    for (let i = 0; i < this.inputs.length; i++) {
      const cell = this.inputs[i]!
      cell.read(from, now)
      // Expressions reckon with doubles: beyond 2^53 their result is that of a rounded number, and says so.
      this.args[i] = typeof cell.value === 'bigint' ? Number(cell.value) : cell.value
      if (typeof cell.value === 'bigint' && worse(status, Status.subNormal)) status = Status.subNormal
      if (worse(status, cell.status)) status = cell.status
      if (cell.time > time) time = cell.time
    }
    this.time = time === Number.NEGATIVE_INFINITY ? NO_TIME : time
    this.status = status
    this.value = null
    if (!this.compiled) {
      this.status = Status.noAnswer
      return
    }
    this.problem = null
    if (qualityOf(status) === 'bad') return
    if (this.args.includes(null)) {
      this.status = Status.noData
      return
    }
    const result = this.compiled.run(this.args, now)
    this.value = finish(result, this.fill.factor, this.fill.offset, this.dataType)
    if (this.signed && typeof this.value === 'bigint' && !fitsSigned64(this.value)) this.value = null
    if (this.value === null) {
      this.status = Status.noAnswer
      this.problem = this.compiled.problem
    } else this.keepGood()
  }
}
