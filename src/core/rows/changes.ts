import type { RowColumn } from '~/contract/row-place'
import type { Scalar } from '../value/deadband'
import { fromWire, toWire } from '../value/wire'
import type { ReadRow } from './read'

/** What became of a row since it was told last; `present`: nobody looked, all were asked for. */
export type RowChange = 'added' | 'changed' | 'removed' | 'present'

export interface ToldRow {
  name: string
  change: RowChange
  /** One for each column; of a removed row those that were told last. */
  values: readonly Scalar[]
  /** Of a row that is there. */
  status: readonly number[] | null
}

/** Where it is kept that rows were looked at, though there may be none. */
const LOOKED = 'rows'
/** What is kept of a row of which nobody knows what was told last: whatever it is, it is told anew. */
export const UNSURE = '[]'
/** Where it is kept what was told of a row. */
export const placeOfRow = (name: string): string => `row ${JSON.stringify(name)}`
const nameAt = (place: string): string | null => {
  if (!place.startsWith('row ')) return null
  try {
    const name: unknown = JSON.parse(place.slice(4))
    return typeof name === 'string' ? name : null
  } catch {
    return null
  }
}
/** Whether something that is kept of a publication is of its rows. */
export const isOfRows = (place: string): boolean => place === LOOKED || nameAt(place) !== null

const textOf = (values: readonly Scalar[]): string => JSON.stringify(values.map(toWire))

/** What was told of the rows of a source, to say what has become other: over starts and versions. */
export class RowChanges {
  /** Values that were told, by what tells the row from others. */
  private readonly told = new Map<string, string>()
  /** Rows of which something is about to be told. */
  private readonly unsure = new Set<string>()
  /** Whether anything was ever told, or taken for known. */
  looked = false
  private readonly sign: string

  constructor(columns: readonly Pick<RowColumn, 'name' | 'dataType'>[]) {
    this.sign = JSON.stringify(columns.map(({ name, dataType }) => [name, dataType]))
  }

  /** What is other than what was told; a row that is gone only where `removed` is asked for. */
  of(rows: ReadonlyMap<string, ReadRow>, removed: boolean): ToldRow[] {
    const out: ToldRow[] = []
    for (const [name, { values, status }] of rows) {
      const before = this.told.get(name)
      if (before !== textOf(values)) out.push({ name, change: before === undefined ? 'added' : 'changed', values, status })
    }
    for (const [name, before] of this.told) {
      if (rows.has(name)) continue
      if (removed) out.push({ name, change: 'removed', values: valuesIn(before), status: null })
      else this.told.delete(name)
    }
    const wanted = new Set(out.map((r) => r.name))
    // Of what needs not be told after all everything is known.
    for (const name of this.unsure) if (!wanted.has(name)) this.unsure.delete(name)
    return out
  }

  /** Something is about to be told of these: until it is noted nobody knows what was told last. */
  begin(names: Iterable<string>): void {
    for (const name of names) this.unsure.add(name)
  }

  /** Somebody was told of a row. */
  note({ name, change, values }: Pick<ToldRow, 'name' | 'change' | 'values'>): void {
    this.looked = true
    this.unsure.delete(name)
    if (change === 'removed') this.told.delete(name)
    else this.told.set(name, textOf(values))
  }

  /** What there is is taken for known: only what changes from now on is told. */
  assume(rows: ReadonlyMap<string, ReadRow>): void {
    this.looked = true
    for (const [name, { values }] of rows) this.told.set(name, textOf(values))
  }

  /** What is kept, by place. */
  memory(): Map<string, string> {
    const out = new Map<string, string>()
    if (this.looked) out.set(LOOKED, this.sign)
    for (const [name, text] of this.told) out.set(placeOfRow(name), text)
    for (const name of this.unsure) out.set(placeOfRow(name), UNSURE)
    return out
  }

  remember(kept: ReadonlyMap<string, string>): void {
    this.looked ||= kept.has(LOOKED)
    // Of other columns nothing is known but which rows there were: each of them is another one now.
    const same = kept.get(LOOKED) === this.sign
    for (const [place, text] of kept) {
      const name = nameAt(place)
      if (name !== null) this.told.set(name, same ? text : UNSURE)
    }
  }
}

function valuesIn(text: string): Scalar[] {
  const kept = JSON.parse(text) as Parameters<typeof fromWire>[0][]
  return kept.map(fromWire)
}
