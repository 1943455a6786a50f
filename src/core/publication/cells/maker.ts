import type { Fill } from '~/contract/fill'
import type { PlanLookup } from '~/contract/row-place'
import type { LookupTable } from '~/contract/step'
import type { DataType } from '~/contract/tag'
import { LookedUp } from '../../rows/looked-up'
import { Computed, Constant, FromRow, FromTag } from './basic'
import type { Cell, Remembering } from './cell'
import { As, Bridge, FromRecord, Lookup, Smooth, Table } from './made'

/** What stands for the rows of a source among handles: no tag has such a number. */
export const tickOf = (lookup: number): number => -1 - lookup

/** Where nobody brought any rows. */
const nothingKnown = new LookedUp({ sourceId: '', source: '', at: '', key: '', columns: [] })

/**
 * Makes the cells of one equipment. What remembers is made once, however many members are made from it: all see the same.
 * `signed`: the shape holds whole numbers up to 2^63 - 1 only (an Int64); larger ones are out of its range.
 */
export class CellMaker {
  private readonly shared = new Map<string, Cell & Remembering>()
  constructor(
    private readonly tables: readonly Table[] = [],
    private readonly signed = false,
    private readonly lookups: readonly LookedUp[] = [],
  ) {}

  make(fill: Fill, dataType: DataType): Cell {
    switch (fill.kind) {
      case 'constant':
        return new Constant(fill.value)
      case 'tag':
        return new FromTag(fill, dataType, this.signed)
      case 'row':
        return new FromRow(fill)
      case 'expression':
        return new Computed(
          fill,
          dataType,
          this.signed,
          fill.inputs.map((i) => this.make(i.fill, i.dataType)),
        )
      case 'as':
        return new As(fill, dataType, this.make(fill.input, fill.inputType))
      case 'lookup':
        return new Lookup(fill, this.tables[fill.table] ?? new Table({ columns: [], rows: [] }), this.make(fill.input, fill.inputType))
      case 'record': {
        const rows = this.lookups[fill.lookup] ?? nothingKnown
        return new FromRecord(fill, rows, this.make(fill.input, fill.inputType), tickOf(fill.lookup))
      }
      case 'smooth':
        return this.once(fill, () => new Smooth(fill, this.make(fill.input, fill.inputType)))
      case 'bridge':
        return this.once(fill, () => new Bridge(fill, this.make(fill.input, fill.inputType)))
    }
  }

  /** What keeps something, by what it is made from. */
  get remembering(): ReadonlyMap<string, Remembering> {
    return this.shared
  }

  private once(fill: Fill, make: () => Cell & Remembering): Cell {
    const key = JSON.stringify(fill)
    let cell = this.shared.get(key)
    if (!cell) this.shared.set(key, (cell = make()))
    return cell
  }
}

export const tablesOf = (tables: readonly LookupTable[] | undefined): Table[] => (tables ?? []).map((t) => new Table(t))

export const lookedUpIn = (lookups: readonly PlanLookup[] | undefined): LookedUp[] => (lookups ?? []).map((l) => new LookedUp(l))

/** A cell by itself. */
export const makeCell = (fill: Fill, dataType: DataType): Cell => new CellMaker().make(fill, dataType)
