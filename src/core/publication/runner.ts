import type { Plan } from '~/contract/publication'
import { compactJson, type Encoded } from '../shape/compact-json'
import { isChange, type Scalar } from '../value/deadband'
import { qualityOf, Status } from '../value/quality'
import { type Cell, makeCell, type ValueArrays } from './cell'

/**
 * A plan made ready to run: from tag handle to the members that it fills. Nothing in here looks up a name. The runner only
 * says which equipment speaks and with what; numbering and storing are the caller's.
 */
export class Runner {
  /** For each handle, indexes into the cells. */
  private readonly cellsOf = new Map<number, number[]>()
  private readonly cells: Cell[] = []
  private readonly owner: number[] = []
  private readonly sentValue: (Scalar | undefined)[] = []
  private readonly sentQuality: string[] = []
  /** The cells of each equipment, and those of them that are not constants as indexes. */
  private readonly own: Cell[][] = []
  private readonly moving: number[][] = []
  /** Cells with an input that has changed. */
  private readonly touched = new Set<number>()
  private readonly dirty = new Set<number>()
  private readonly encoders: ((cells: readonly Cell[], now: number) => Encoded)[] = []
  readonly handles: number[]

  constructor(readonly plan: Plan) {
    plan.equipment.forEach((one, e) => {
      this.encoders.push(compactJson(one.members))
      const cells = one.members.map((m) => makeCell(m.fill, m.dataType))
      const moving: number[] = []
      for (const cell of cells) {
        if (cell.handles.length === 0) continue
        const i = this.cells.push(cell) - 1
        moving.push(i)
        this.owner.push(e)
        this.sentValue.push(undefined)
        this.sentQuality.push('')
        for (const h of cell.handles) {
          const list = this.cellsOf.get(h)
          if (list) list.push(i)
          else this.cellsOf.set(h, [i])
        }
      }
      this.own.push(cells)
      this.moving.push(moving)
    })
    this.handles = [...this.cellsOf.keys()]
  }

  /** Notes that a tag has a new value or status. */
  touch(handle: number): void {
    const cells = this.cellsOf.get(handle)
    if (cells) for (const i of cells) this.touched.add(i)
  }

  /** Reads what was touched, each cell once however many of its inputs changed, and notes which equipment has news. */
  private settle(values: ValueArrays, now: number): void {
    for (const i of this.touched) {
      const cell = this.cells[i]!
      cell.read(values, now)
      const sent = this.sentValue[i]
      if (sent === undefined || isChange(sent, cell.value, cell.width) || this.sentQuality[i] !== qualityOf(cell.status))
        this.dirty.add(this.owner[i]!)
    }
    this.touched.clear()
  }

  /** Equipment that has something new to say; those with a member that never had a value are held back until it has. */
  drain(values: ValueArrays, now: number): number[] {
    this.settle(values, now)
    if (this.dirty.size === 0) return []
    const ready: number[] = []
    for (const e of this.dirty) if (this.complete(e, values, now)) ready.push(e)
    for (const e of ready) this.dirty.delete(e)
    return ready
  }

  /** All equipment that has its first values: for publications that speak by the clock. */
  all(values: ValueArrays, now: number): number[] {
    this.settle(values, now)
    return this.plan.equipment.map((_, e) => e).filter((e) => this.complete(e, values, now))
  }

  private complete(e: number, values: ValueArrays, now: number): boolean {
    for (const i of this.moving[e]!) {
      const cell = this.cells[i]!
      if (cell.status === Status.waitingForInitialData) cell.read(values, now)
      if (cell.status === Status.waitingForInitialData) return false
    }
    return true
  }

  /** The payload of one equipment as last settled; remembers it as the last one sent. */
  encode(e: number, now: number): Encoded {
    for (const i of this.moving[e]!) {
      const cell = this.cells[i]!
      this.sentValue[i] = cell.value
      this.sentQuality[i] = qualityOf(cell.status)
    }
    return this.encoders[e]!(this.own[e]!, now)
  }
}
