import type { PlanStage } from '~/contract/publication'
import type { WindowBy } from '~/contract/step'
import type { Scalar } from '../../value/deadband'
import { qualityOf, Status } from '../../value/quality'
import type { Row } from './row'

type Work = Extract<PlanStage['work'], { kind: 'window' }>

const isNumber = (v: Scalar): v is number | bigint => typeof v === 'number' || typeof v === 'bigint'

/** What one member came to in a window. */
class Sum {
  private value: Scalar = null
  private used = 0
  private lost = 0
  private worst: number = Status.good
  private time = Number.NaN
  private lastStatus: number = Status.waitingForInitialData
  constructor(private readonly by: WindowBy) {}

  add(value: Scalar, status: number, time: number): void {
    this.lastStatus = status
    if (!(this.time >= time)) this.time = time
    if (qualityOf(status) === 'bad' || value === null) {
      this.lost++
      return
    }
    if (status >>> 30 !== 0 && this.worst >>> 30 === 0) this.worst = status
    this.value = this.used === 0 ? this.begun(value) : this.joined(value)
    this.used++
  }

  private begun(value: Scalar): Scalar {
    return this.by === 'average' && isNumber(value) ? Number(value) : value
  }

  private joined(value: Scalar): Scalar {
    const { value: before, by } = this
    if (!isNumber(before) || !isNumber(value) || by === 'last') return value
    if (by === 'least') return value < before ? value : before
    if (by === 'most') return value > before ? value : before
    // A running mean: it stays as near to what it is of as doubles can, however many there are.
    if (by === 'average') return Number(before) + (Number(value) - Number(before)) / (this.used + 1)
    return typeof before === 'bigint' && typeof value === 'bigint' ? before + value : Number(before) + Number(value)
  }

  /** What is known of some of them only is sub-normal; what is known of none is as it was last. */
  get result(): { value: Scalar; status: number; time: number } {
    if (this.used === 0) return { value: null, status: this.lastStatus, time: this.time }
    const numbers = isNumber(this.value) && this.by !== 'last'
    const status = this.worst >>> 30 === 0 && this.lost > 0 && numbers ? Status.subNormal : this.worst
    const value = typeof this.value === 'number' && !Number.isFinite(this.value) ? null : this.value
    return { value, status: value === null ? Status.outOfRange : status, time: this.time }
  }
}

interface Open {
  /** When it is over, monotonic ms. */
  until: number
  count: number
  whole: boolean
  sums: Sum[]
}

/**
 * Gathers the messages of each kind over a time: one goes for all that came in, when that is over. A window begins with the first
 * message after the last window. Times are monotonic, ms.
 */
export class Window {
  private readonly open = new Map<number, Open>()

  constructor(private readonly work: Work) {}

  /** When the first of them is over; infinite: none is open. */
  get nextAt(): number {
    let at = Number.POSITIVE_INFINITY
    // Begun one after the other and of one length: the first is over first.
    for (const { until } of this.open.values()) {
      at = until
      break
    }
    return at
  }

  /** Takes a message; gives what is gathered when it was the last that there is room for. */
  offer(row: Row, mono: number): Row | null {
    let open = this.open.get(row.n)
    if (!open) {
      open = { until: mono + this.work.seconds * 1000, count: 0, whole: false, sums: row.values.map(() => new Sum(this.work.by)) }
      this.open.set(row.n, open)
    }
    open.count++
    open.whole ||= row.whole
    for (let i = 0; i < row.values.length; i++) open.sums[i]!.add(row.values[i]!, row.status[i]!, row.time[i]!)
    return this.work.messages !== null && open.count >= this.work.messages ? this.close(row.n, open) : null
  }

  /** Those that are over; with `all` every one. */
  due(mono: number, all = false): Row[] {
    const out: Row[] = []
    for (const [n, open] of this.open) {
      if (!all && open.until > mono) break
      out.push(this.close(n, open))
    }
    return out
  }

  private close(n: number, open: Open): Row {
    this.open.delete(n)
    const results = open.sums.map((s) => s.result)
    const counted = this.work.count === null ? [] : [{ value: open.count, status: Status.good, time: Number.NaN }]
    const members = [...results, ...counted]
    return {
      n,
      whole: open.whole,
      values: members.map((m) => m.value),
      status: members.map((m) => m.status),
      time: members.map((m) => m.time),
    }
  }
}
