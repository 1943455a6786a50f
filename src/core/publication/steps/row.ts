import type { PlanStage } from '~/contract/publication'
import type { Scalar } from '../../value/deadband'
import { Status } from '../../value/quality'
import type { ValueArrays } from '../cells/cell'
import { outOf } from './effects'

/** A message between two steps: the values of its equipment's members, in their order. Times are epoch ms, NaN: none. */
export interface Row {
  /** Which message of the plan. */
  n: number
  /** All of it is to be said, though nothing changed. */
  whole: boolean
  values: Scalar[]
  status: number[]
  time: number[]
}

/** What came out of a stage last, of all equipment. */
export class RowValues implements ValueArrays {
  readonly value: Scalar[]
  readonly status: number[]
  readonly time: number[]
  /** Where each equipment begins. */
  private readonly begins: number[] = []
  private readonly count: number

  constructor(stage: PlanStage) {
    let at = 0
    for (const members of stage.equipment) {
      this.begins.push(at)
      at += outOf(stage.work, members).length
    }
    this.count = at
    this.value = new Array<Scalar>(at).fill(null)
    this.status = new Array<number>(at).fill(Status.waitingForInitialData)
    this.time = new Array<number>(at).fill(Number.NaN)
  }

  /** Puts a row in its place; gives where that is. */
  put(equipment: number, row: Row): number[] {
    const begin = this.begins[equipment]!
    const places: number[] = []
    for (let i = 0; i < row.values.length && begin + i < this.count; i++) {
      this.value[begin + i] = row.values[i]!
      this.status[begin + i] = row.status[i]!
      this.time[begin + i] = row.time[i]!
      places.push(begin + i)
    }
    return places
  }
}
