import { digest } from '~/core/delivery/digest'
import { RangeSet } from '~/core/delivery/ranges'
import { type FileName, readName } from './names'

/** Places of which it is remembered how far they were read; with more those that have been quiet the longest are let go of. */
const PLACES_MOST = 5000
/** Names hold the wall clock, which may have been set back by so much, ms. */
const BACK_MS = 2 * 3_600_000
const LATELY = 20_000

/** A file that is read: which of its rows have been counted. */
export interface Told {
  readonly name: string
  rows: number
  readonly counted: RangeSet
}

/** How far one place was read: when the first message of its last file was made, and the last position in that. */
type Through = [place: number, at: number, last: number]

/** What is written of it. */
export interface WrittenFiles {
  before: number
  /** The latest moment at which a file begins that was read; not the last one's where the clock was set back. */
  newest?: number
  places: Through[]
  partly: [name: string, counted: string][]
}

/**
 * Which files have been read. Those of one place come in the order of their messages, so that for each it is enough to know the last;
 * what was read and is not counted yet is read again by whoever goes on from here.
 */
export class ReadFiles {
  private readonly places = new Map<number, Through>()
  /** Files from before that moment are of places that were read and are not remembered, epoch ms. */
  private before: number
  private readonly partly = new Map<string, Told>()
  /** Names that were read lately, of files that begin after a moment all: one that is finished a second time is the same file. */
  private readonly lately = new Set<string>()
  private latelyFrom: number
  private newest: number
  /** Partly counted by an earlier run. */
  private readonly left: Map<string, string>

  constructor(w: WrittenFiles = { before: Number.NEGATIVE_INFINITY, places: [], partly: [] }) {
    this.before = w.before ?? Number.NEGATIVE_INFINITY
    this.latelyFrom = w.newest ?? Number.NEGATIVE_INFINITY
    for (const place of w.places) {
      this.places.set(place[0], place)
      this.latelyFrom = Math.max(this.latelyFrom, place[1])
    }
    this.newest = this.latelyFrom
    this.left = new Map(w.partly)
  }

  /** Names that an earlier run began with and did not come to the end of. */
  get unfinished(): string[] {
    return [...this.left.keys()]
  }

  /** Whether a file has not been read yet, as far as names can tell. */
  isNew(name: string, { place, at, last }: FileName): boolean {
    if (this.left.has(name)) return true
    if (this.partly.has(name) || this.lately.has(name)) return false
    // It lies beside one that was read, under another name: it is a copy.
    if (at > this.latelyFrom) return true
    const through = this.places.get(keyOf(place))
    if (!through) return at > this.before
    return last > through[2] && at > through[1] - BACK_MS
  }

  /** Whether it was read: in this run, or as the last of its place by the run before, all of it. */
  wasRead(name: string): boolean {
    if (this.lately.has(name)) return true
    const file = readName(name)
    const through = file && this.places.get(keyOf(file.place))
    return through != null && through[1] === file!.at && through[2] === file!.last && !this.left.has(name)
  }

  /** A file is passed over: it was there before anybody watched, or cannot be read. */
  pass(name: string, { place, at, last }: FileName): void {
    const key = keyOf(place)
    this.newest = Math.max(this.newest, at)
    this.lately.add(name)
    if (this.lately.size > LATELY) this.forgetOldest()
    // An earlier run had come further than what it left.
    if (this.left.delete(name)) return
    this.places.delete(key)
    this.places.set(key, [key, at, last])
    if (this.places.size <= PLACES_MOST) return
    const [oldest] = this.places.values()
    this.places.delete(oldest![0])
    this.before = Math.max(this.before, oldest![1])
  }

  private forgetOldest(): void {
    for (const oldest of this.lately) {
      this.lately.delete(oldest)
      this.latelyFrom = Math.max(this.latelyFrom, readName(oldest)?.at ?? 0)
      return
    }
  }

  /** A file is read, with so many rows; gives what of it is to be counted. */
  begin(name: string, file: FileName, rows: number): Told {
    const counted = RangeSet.parse(this.left.get(name) ?? '{}')
    this.pass(name, file)
    const told: Told = { name, rows, counted }
    if (counted.count < rows) this.partly.set(name, told)
    return told
  }

  counts(told: Told, rows: readonly number[]): void {
    for (const row of rows) told.counted.add(row)
    if (told.counted.count >= told.rows) this.partly.delete(told.name)
  }

  written(): WrittenFiles {
    const partly = [...this.partly.values()].map(({ name, counted }): [string, string] => [name, counted.toString()])
    return { before: this.before, newest: this.newest, places: [...this.places.values()], partly: [...partly, ...this.left] }
  }
}

const keyOf = (place: string): number => digest(Buffer.from(place))
