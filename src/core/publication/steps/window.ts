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

/** What one member was in each message of a window; places that none came for have no value. */
class Each {
  private readonly values: { value: Scalar; status: number; time: number }[] = []
  constructor(private readonly places: number) {}

  add(value: Scalar, status: number, time: number): void {
    this.values.push({ value, status, time })
  }

  get results(): { value: Scalar; status: number; time: number }[] {
    return Array.from({ length: this.places }, (_, i) => this.values[i] ?? { value: null, status: Status.noData, time: Number.NaN })
  }
}

/** So many windows of one step are open at once; beyond that the oldest is over. */
export const OPEN_MOST = 10_000

interface Open {
  n: number

  /** When it is over, monotonic ms. */
  until: number
  count: number
  whole: boolean
  sums: (Sum | Each)[]
}

/**
 * Gathers the messages of each kind over a time: one goes for all that came in, when that is over. A window begins with the first
 * message after the last window. Times are monotonic, ms.
 */
export class Window {
  /** By the message, and by what it has as its key. */
  private readonly open = new Map<string, Open>()

  /** `keyAt`: where in the values of a message its key is; null: it has none. */
  constructor(
    private readonly work: Work,
    private readonly keyAt: (n: number) => number | null = () => null,
  ) {}

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
    const { by, seconds, messages } = this.work
    const key = this.keyAt(row.n)
    const place = key === null ? String(row.n) : `${row.n} ${typeof row.values[key]} ${row.values[key]}`
    let open = this.open.get(place)
    if (!open) {
      const sums = row.values.map((_, i) => (by === 'each' && i !== key ? new Each(messages ?? 0) : new Sum(i === key ? 'last' : by)))
      open = { n: row.n, until: mono + seconds * 1000, count: 0, whole: false, sums }
      this.open.set(place, open)
    }
    open.count++
    open.whole ||= row.whole
    for (let i = 0; i < row.values.length; i++) open.sums[i]!.add(row.values[i]!, row.status[i]!, row.time[i]!)
    if (messages !== null && open.count >= messages) return this.close(place, open)
    if (this.open.size <= OPEN_MOST) return null
    const [[oldest, first]] = this.open as unknown as [[string, Open]]
    return this.close(oldest, first)
  }

  /** Those that are over; with `all` every one. */
  due(mono: number, all = false): Row[] {
    const out: Row[] = []
    for (const [place, open] of this.open) {
      if (!all && open.until > mono) break
      out.push(this.close(place, open))
    }
    return out
  }

  private close(place: string, open: Open): Row {
    this.open.delete(place)
    const results = open.sums.flatMap((s) => (s instanceof Each ? s.results : [s.result]))
    const counted = this.work.count === null ? [] : [{ value: open.count, status: Status.good, time: Number.NaN }]
    const members = [...results, ...counted]
    return {
      n: open.n,
      whole: open.whole,
      values: members.map((m) => m.value),
      status: members.map((m) => m.status),
      time: members.map((m) => m.time),
    }
  }
}

/** Where in the values of each message of a plan the key of this window is. */
export function keyPlaces(stage: PlanStage, equipmentOf: (n: number) => number): (n: number) => number | null {
  const { work, equipment } = stage
  if (work.kind !== 'window' || work.key === undefined) return () => null
  const { key } = work
  const places = equipment.map((members) => members.findIndex((m) => m.key === key))
  return (n) => {
    const place = places[equipmentOf(n)] ?? -1
    return place < 0 ? null : place
  }
}
