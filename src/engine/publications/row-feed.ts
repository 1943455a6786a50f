import type { Failure } from '~/contract/failure'
import type { Plan } from '~/contract/publication'
import type { PlanRows } from '~/contract/rows'
import { speaksFirst } from '~/contract/trigger'
import type { ValueArrays } from '~/core/publication/cells/cell'
import { placeOfRow, RowChanges, type ToldRow } from '~/core/rows/changes'
import { type ReadRow, rowsOf } from '~/core/rows/read'
import type { Scalar } from '~/core/value/deadband'
import { qualityOf, Status } from '~/core/value/quality'
import type { Cancel, Clock } from '../clock/clock'
import { log, wordsOf } from '../log'
import type { Answered, Documents } from '../sources/documents'

/** So many rows go in one turn of the loop: others have theirs between them. */
const ROWS_A_TURN = 200
/** Where nothing can be said just now it is tried again so soon, ms. */
const AGAIN_MS = 1000

export interface RowFeedOptions {
  plan: Pick<Plan, 'trigger' | 'pace'> & { feed: PlanRows }
  clock: Clock
  documents: Documents
  /** Whether it is kept already that nobody knows what was told last of a row, by its place; and keeps that. */
  isUnsure(place: string): boolean
  unsure(places: readonly string[]): Promise<void>
  /** Says what stands in the values now; false: not now, it is asked again. */
  say(): boolean
  /** What is wrong with its rows; null: nothing any more. */
  trouble(failure: Failure | null): void
  guarded(work: () => void): void
}

/** The rows of a source, one after the other: what its one message is said of, and when. */
export class RowFeed {
  /** The row that is spoken of, in the places of its plan. */
  readonly values: ValueArrays & { value: Scalar[]; status: number[]; time: number[] } = { value: [], status: [], time: [] }
  private readonly changes: RowChanges
  /** As they were read last; null: not yet. */
  private rows: ReadonlyMap<string, ReadRow> | null = null
  private answered: Answered | null = null
  /** Rows that were asked for, and rows that are other than what was told. */
  private asked: ToldRow[] = []
  private other: ToldRow[] = []
  private failure: Failure | null = null
  private stopHearing: Cancel = () => undefined
  private stopTurn: Cancel | null = null
  private stopped = false
  private marking = false

  constructor(private readonly o: RowFeedOptions) {
    this.changes = new RowChanges(o.plan.feed.columns)
  }

  /** How many rows there are; null: nobody knows yet. */
  get count(): number | null {
    return this.rows === null ? null : this.rows.size
  }

  /** Why there are none, or why those that there are may be old. */
  get problem(): Failure | null {
    return this.failure ?? this.answered?.lost ?? null
  }

  begin(): void {
    const { documents, plan, guarded } = this.o
    this.stopHearing = documents.on(plan.feed.sourceId, (answered) => guarded(() => this.came(answered)))
  }

  private came(answered: Answered): void {
    const again = this.answered !== null && this.answered.document === answered.document
    this.answered = answered
    // Those of a lost link are what they were.
    if ((again && this.rows) || answered.document === undefined) return
    const { feed, trigger, pace } = this.o.plan
    const read = rowsOf(answered.document, feed, feed.columns)
    const problem = 'problem' in read ? read.problem : null
    this.failing(problem)
    if ('problem' in read) return
    this.rows = read.rows
    if (trigger.kind !== 'change') return
    if (!this.changes.looked && !speaksFirst(trigger, pace)) this.changes.assume(read.rows)
    // What waits to be told of rows as they were is over: only how they are now counts.
    this.other = this.changes.of(read.rows, feed.removed)
    this.turn()
  }

  private failing(problem: string | null): void {
    if (problem === (this.failure?.message ?? null)) return
    const hint = 'Change what the source asks for, or where its rows stand under What'
    this.failure = problem === null ? null : { code: 'rows.unreadable', message: problem, hint, where: 'source' }
    this.o.trouble(this.failure)
  }

  /** All that there are, once; gives how many. */
  all(): number {
    if (!this.rows) return 0
    for (const { name, values, status } of this.rows.values()) this.asked.push({ name, change: 'present', values, status })
    this.turn()
    return this.rows.size
  }

  /** Says some, and comes back for the others. */
  private turn(): void {
    if (this.stopTurn || this.marking || this.stopped) return
    const left = this.mark() ? null : this.some(ROWS_A_TURN)
    if (left !== null) this.again(left)
  }

  private again(ms: number): void {
    if (this.stopped) return
    this.stopTurn = this.o.clock.after(ms, () => {
      this.stopTurn = null
      this.o.guarded(() => this.turn())
    })
  }

  /**
   * Keeps of the next rows that something is told of them, where that is not kept yet: were it told first, and this engine killed, nobody
   * would know of what is so again by then, or is gone. True: they are told when it is.
   */
  private mark(): boolean {
    if (this.asked.length > 0) return false
    const { removed } = this.o.plan.feed
    // What nobody knew is told again all the same, as long as nobody has to hear that it is gone.
    const names = this.other.slice(0, ROWS_A_TURN).flatMap((r) => (r.change === 'added' && !removed ? [] : [r.name]))
    const places = names.map(placeOfRow).filter((place) => !this.o.isUnsure(place))
    this.changes.begin(names)
    if (places.length === 0) return false
    this.marking = true
    this.o.unsure(places).then(
      () => this.marked(0),
      (e: unknown) => {
        log('warn', 'publications', `${this.o.plan.feed.source}: rows wait until it can be kept that they are told: ${wordsOf(e)}`)
        this.marked(AGAIN_MS)
      },
    )
    return true
  }

  private marked(ms: number): void {
    this.marking = false
    if (ms > 0) this.again(ms)
    else this.o.guarded(() => this.turn())
  }

  /** Says at most so many; gives when the next may be said, ms; null: nothing is left. */
  private some(most: number): number | null {
    const queue = this.asked.length > 0 ? this.asked : this.other
    let said = 0
    while (said < Math.min(most, queue.length) && this.one(queue[said]!)) said++
    const held = said < Math.min(most, queue.length)
    queue.splice(0, said)
    if (held) return AGAIN_MS
    return this.asked.length + this.other.length > 0 ? 0 : null
  }

  private one(row: ToldRow): boolean {
    const { feed } = this.o.plan
    const at = this.answered!.at
    const stale = this.answered!.lost !== null
    const put = (handle: number, value: Scalar, status: number) => {
      this.values.value[handle] = value
      this.values.status[handle] = status
      this.values.time[handle] = at
    }
    feed.columns.forEach(({ handle }, i) => {
      const status = row.status?.[i] ?? Status.noData
      const value = row.values[i] ?? null
      if (row.status === null) put(handle, value, value === null ? Status.noData : Status.good)
      else put(handle, value, stale && qualityOf(status) === 'good' ? Status.lastUsable : status)
    })
    if (feed.nameHandle !== null) put(feed.nameHandle, row.name, Status.good)
    if (feed.changeHandle !== null) put(feed.changeHandle, row.change, Status.good)
    if (!this.o.say()) return false
    // That all were asked for tells nobody what became of one.
    if (row.change !== 'present') this.changes.note(row)
    return true
  }

  /** What was told of its rows, by place. */
  memory(): ReadonlyMap<string, string> {
    return this.changes.memory()
  }

  /** What was told before: said before it begins. */
  remember(kept: ReadonlyMap<string, string>): void {
    this.changes.remember(kept)
  }

  /** Nothing new comes; what was asked for goes out now. What has become other is told by whoever comes after. */
  stop(): void {
    this.stopped = true
    this.stopHearing()
    this.stopTurn?.()
    this.stopTurn = null
    this.other = []
    if (this.asked.length > 0) this.o.guarded(() => void this.some(Number.POSITIVE_INFINITY))
  }
}
