import type { DataType } from '~/contract/tag'
import { conform } from '~/core/value/datatype'
import type { Scalar } from '~/core/value/deadband'

/** A signal that is computed. */
export interface Moving {
  next(seconds: number): Scalar
  last: Scalar | undefined
  dataType: DataType
  /** So much further than the others it is, s. */
  ahead: number
}

/** So many values a ms are computed at most: however many signals there are, the loop has time for what is measured. */
const VALUES_A_MS = 50

/** Signals that move faster than the others for a while: their time passes so many times as fast, and they are looked at as often. */
export class Paced {
  private handles: ReadonlySet<number> = new Set()
  private timer: NodeJS.Timeout | null = null

  constructor(
    private readonly all: () => ReadonlyMap<number, Moving>,
    /** Since all of them began, s. */
    private readonly seconds: () => number,
    private readonly say: (handles: number[], values: Scalar[]) => void,
  ) {}

  has(handle: number): boolean {
    return this.handles.has(handle)
  }

  /** Gives how many of these it moves. `everyMs`: how often they are looked at otherwise. */
  begin(handles: ReadonlySet<number>, multiple: number, everyMs: number): number {
    this.end()
    const own = new Set([...this.all().keys()].filter((h) => handles.has(h)))
    this.handles = own
    let last = performance.now()
    const interval = Math.max(1, everyMs / multiple, own.size / VALUES_A_MS)
    if (own.size > 0)
      this.timer = setInterval(() => {
        const now = performance.now()
        this.move(((now - last) / 1000) * (multiple - 1))
        last = now
      }, interval)
    return own.size
  }

  private move(further: number): void {
    const handles: number[] = []
    const values: Scalar[] = []
    const at = this.seconds()
    const all = this.all()
    for (const handle of this.handles) {
      const one = all.get(handle)
      if (!one) continue
      one.ahead += further
      const value = conform(one.next(at + one.ahead), one.dataType)
      if (value === one.last) continue
      one.last = value
      handles.push(handle)
      values.push(value)
    }
    if (handles.length > 0) this.say(handles, values)
  }

  /** They go on from where they are, as fast as the others. */
  end(): void {
    if (this.timer) clearInterval(this.timer)
    this.timer = null
    this.handles = new Set()
  }
}
