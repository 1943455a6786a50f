import { sliceStart } from '~/core/delivery/account-changes'
import type { Envelope } from '~/core/delivery/envelope'

/** Numbers of one delivery and one slice of time that were pushed out of memory. */
export interface DropRun {
  delivery: number
  first: number
  last: number
  producedAt: number
  turn: number
}

/** What was pushed out of memory before it could be stored, as runs of numbers: told once the messages before it are stored. */
export class DropRuns {
  private runs: DropRun[] = []
  private readonly latest = new Map<number, DropRun>()
  count = 0

  add({ delivery, seq, producedAt, turn }: Envelope): void {
    this.count++
    const run = this.latest.get(delivery)
    if (run && run.last === seq - 1 && sliceStart(run.producedAt, run.turn) === sliceStart(producedAt, turn)) {
      run.last = seq
      return
    }
    const fresh = { delivery, first: seq, last: seq, producedAt, turn }
    this.latest.set(delivery, fresh)
    this.runs.push(fresh)
  }

  take(): DropRun[] {
    const runs = this.runs
    this.runs = []
    this.latest.clear()
    this.count = 0
    return runs
  }
}
