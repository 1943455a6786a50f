import type { Plan } from '~/contract/publication'
import { type Names, numberOf, type Track } from '~/core/compare/track'
import type { Fates } from '~/core/delivery/account'
import { unpackProperties } from '~/core/delivery/properties'
import { RangeSet } from '~/core/delivery/ranges'
import type { Scalar } from '~/core/value/deadband'
import type { JournalDesk } from '../outbox/journal-desk'
import { octets } from '../publications/compress'
import { PlanReader } from '../publications/plan-reader'
import type { Arriving } from './pairs'

/** What of a member arrived. */
export interface Arrival {
  came: Track
  /** Its own time is told with each value: then that is when it came. */
  timed: boolean
  saidLaterMs: number[]
  lags: number[]
  lost: number
  altered: number
  open: number
  /** Read up to then, epoch ms. */
  to: number
  /** Messages of its publication that cannot be read, or of which nobody knows what became of them: it may be among them. */
  unread: number
  last: { value: Scalar; at: number } | null
}

export const emptyArrival = (): Arrival => ({
  ...{ came: { at: [], value: [] }, timed: false, saidLaterMs: [], lags: [] },
  ...{ lost: 0, altered: 0, open: 0, to: Number.POSITIVE_INFINITY, unread: 0, last: null },
})

/** A delivery whose messages are read, and what is known of their fate. */
export interface Delivered {
  lane: string
  number: number
  fates: Fates
}

type Fate = 'arrived' | 'lost' | 'altered' | 'open'

/** What became of a number. Without a witness what was acknowledged is taken for arrived: nobody can say more. */
export function fateOf({ witnessed, known, answered, lost, altered }: Fates): (seq: number) => Fate {
  const sets = { known: RangeSet.parse(known), answered: RangeSet.parse(answered), altered: RangeSet.parse(altered) }
  const [missing, dropped, rejected, unknown] = lost.map((text) => RangeSet.parse(text))
  return (seq) => {
    if (sets.altered.has(seq)) return 'altered'
    if (dropped!.has(seq) || rejected!.has(seq)) return 'lost'
    if (!witnessed) return sets.answered.has(seq) ? 'arrived' : 'open'
    if (missing!.has(seq)) return 'lost'
    return unknown!.has(seq) || !sets.known.has(seq) ? 'open' : 'arrived'
  }
}

/** An equipment by its name: of the message, else of any that goes to the same place. */
function equipmentOf(plan: Plan, own: readonly number[], name: string): number | undefined {
  const found = own.find((i) => plan.equipment[i]!.name === name)
  if (found !== undefined) return found
  const all = plan.equipment.findIndex((e) => e.name === name)
  return all < 0 ? undefined : all
}

/** Reads what arrived of the members of one publication. */
export class ArrivalReader {
  readonly byKey = new Map<string, Arrival>()
  private readonly readers = new Map<Plan, PlanReader>()
  private readonly named: ReadonlySet<string>
  messages = 0
  unread = 0

  constructor(
    arriving: readonly Arriving[],
    private readonly planAt: (at: number) => Plan | null,
    private readonly names: Names,
  ) {
    this.named = new Set(arriving.filter(({ pair }) => pair.named).map(({ pair }) => pair.key))
    for (const { pair } of arriving) this.byKey.set(pair.key, emptyArrival())
  }

  /** Reads what was produced of a delivery in a span of time, `most` messages at the most; gives where it ended, epoch ms; null: at the end. */
  async read(
    journal: JournalDesk,
    { lane, number, fates }: Delivered,
    from: number,
    to: number,
    most: number,
    over: () => boolean,
  ): Promise<number | null> {
    const fate = fateOf(fates)
    for await (const { envelope: e, hops } of journal.producedWithHops(lane, number, from, to)) {
      if (this.messages >= most || over()) return e.producedAt
      this.messages++
      const plan = this.planAt(e.producedAt)
      const reader = plan && this.readerOf(plan)
      const read = reader?.read(e.topic, unpackProperties(e.properties), octets(e.payload))
      if (!plan || !read) {
        this.unread++
        continue
      }
      const own = plan.messages[read.n]!.equipment
      const what = fate(e.seq)
      for (const r of read.readings) {
        const equipment = r.equipment === null ? own[0] : equipmentOf(plan, own, r.equipment)
        if (equipment === undefined) continue
        const key = `${plan.publicationId} ${plan.equipment[equipment]!.id} ${r.member}`
        const arrival = this.byKey.get(key)
        if (arrival) this.take(arrival, key, r, what, e.producedAt, hops?.seenAt ?? null)
      }
    }
    return null
  }

  private readerOf(plan: Plan): PlanReader {
    const known = this.readers.get(plan) ?? new PlanReader(plan)
    this.readers.set(plan, known)
    return known
  }

  private take(
    a: Arrival,
    key: string,
    r: { value: Scalar; time: number | null; quality: string },
    fate: Fate,
    producedAt: number,
    seenAt: number | null,
  ): void {
    if (fate !== 'arrived') {
      a[fate]++
      return
    }
    if (r.quality === 'bad' || r.value === null) return
    if (a.came.at.length === 0) a.timed = r.time !== null
    const at = a.timed ? (r.time ?? producedAt) : producedAt
    const number = this.named.has(key) ? this.names.of(r.value) : numberOf(r.value)
    // What is told again with the same time tells nothing new.
    if (a.timed && a.came.at.at(-1) === at && a.came.value.at(-1) === number) return
    if (r.time !== null) {
      a.saidLaterMs.push(r.time - producedAt)
      if (seenAt !== null) a.lags.push(seenAt - r.time)
    } else if (seenAt !== null) a.lags.push(seenAt - producedAt)
    a.came.at.push(at)
    a.came.value.push(number)
    a.last = { value: r.value, at }
  }
}
