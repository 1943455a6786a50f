import type { Verdict } from '~/contract/live'
import { emptyTally, ODD_WINDOW, type OddSet, openSets, type Standing, type Tally, type WindowSet, windowSets } from './verdict'

/** Width of the ledger's finest slice, ms. */
export const SLICE_MS = 10_000

/** What happened in one slice since the last time it was asked; all but the numbers that name it are to be added. */
export type SliceChange = Tally & {
  start: number
  /** The lowest number stored in it; null when none was. */
  firstSeq: number | null
  produced: number
  foreign: number
}

/** A message that is closed got another verdict, or its first; its slice is found by its number. */
export interface Move {
  seq: number
  from: Verdict | 'waiting'
  to: Verdict
}

export interface AccountChange {
  delivery: number
  slices: SliceChange[]
  moves: Move[]
  /** From the device's time to the witness's, ms, of each message that arrived. */
  latencies: number[]
  total: Tally & {
    storedThrough: number
    madeAt: number
    turns: number
    acknowledged: number
    foreign: number
    answeredThrough: number
    knownThrough: number
  }
  /** Every window of numbers with something odd or open in it that changed, as it stands now. */
  windows: { window: number; sets: Record<WindowSet, string> }[]
}

/**
 * The slice of a message: by when it was made, and by how often the wall clock had gone back before. So a slice that comes
 * again is another one, and numbers and slices rise together: a slice is found by a number. `at` in epoch ms.
 */
export const sliceStart = (at: number, turn: number): number => Math.floor(at / SLICE_MS) * SLICE_MS + (turn % SLICE_MS)

const windowOf = (seq: number) => Math.floor(seq / ODD_WINDOW)

/** What changed in one account since it was last taken to be written. */
export class AccountChanges {
  private slices = new Map<number, SliceChange>()
  private windows = new Set<number>()
  private moves: Move[] = []
  private latencies: number[] = []
  /** Windows that were written with numbers of `openSets` in them: to be written again once these are behind. */
  private readonly written = new Set<number>()
  any = false

  constructor(private readonly standing: Standing) {
    for (const set of openSets)
      for (const [first, last] of standing[set])
        if (last > standing[set].through) for (let w = windowOf(first); w <= windowOf(last); w++) this.written.add(w)
  }

  slice(at: number, turn: number): SliceChange {
    const start = sliceStart(at, turn)
    let s = this.slices.get(start)
    if (!s) this.slices.set(start, (s = { start, firstSeq: null, produced: 0, foreign: 0, ...emptyTally() }))
    this.any = true
    return s
  }

  mark(set: OddSet, seq: number): boolean {
    if (!this.standing.odd[set].add(seq)) return false
    this.windows.add(windowOf(seq))
    this.any = true
    return true
  }

  unmark(set: OddSet, seq: number): boolean {
    if (!this.standing.odd[set].delete(seq)) return false
    this.windows.add(windowOf(seq))
    this.any = true
    return true
  }

  /** False when it was in the set already. */
  note(set: (typeof openSets)[number], seq: number): boolean {
    const sets = this.standing[set]
    if (!sets.add(seq)) return false
    if (seq > sets.through) this.windows.add(windowOf(seq))
    this.any = true
    return true
  }

  /** All numbers from `first` to `last` are in a set, which has none above `first`. */
  markAll(set: WindowSet, first: number, last: number): void {
    const { standing } = this
    const all = set === 'known' || set === 'answered' ? standing[set] : standing.odd[set]
    all.append(first, last)
    for (let w = windowOf(first); w <= windowOf(last); w++) this.windows.add(w)
    this.any = true
  }

  moved(move: Move): void {
    this.moves.push(move)
    this.any = true
  }

  latency(ms: number): void {
    this.latencies.push(ms)
  }

  take(delivery: number): AccountChange {
    const s = this.standing
    const behind = windowOf(Math.min(s.known.through, s.answered.through) + 1)
    for (const w of this.written) if (w < behind) this.windows.add(w)
    const windows = [...this.windows].map((window) => {
      const first = window * ODD_WINDOW
      const last = first + ODD_WINDOW - 1
      const part = (set: WindowSet) =>
        set === 'known' || set === 'answered' ? s[set].within(Math.max(first, s[set].through + 1), last) : s.odd[set].within(first, last)
      const sets = Object.fromEntries(windowSets.map((k) => [k, part(k)])) as Record<WindowSet, string>
      if (openSets.some((k) => sets[k] !== '{}')) this.written.add(window)
      else this.written.delete(window)
      return { window, sets }
    })
    const { storedThrough, madeAt, turns, acknowledged, foreign } = s
    const through = { answeredThrough: s.answered.through, knownThrough: s.known.through }
    const change: AccountChange = {
      delivery,
      slices: [...this.slices.values()],
      moves: this.moves,
      latencies: this.latencies,
      total: { storedThrough, madeAt, turns, acknowledged, foreign, ...through, ...s.tally },
      windows,
    }
    this.slices = new Map()
    this.windows = new Set()
    this.moves = []
    this.latencies = []
    this.any = false
    return change
  }
}
