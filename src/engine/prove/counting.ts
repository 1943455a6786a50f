import type { ProofCounts, ProofLatency } from '~/contract/prove'
import type { Account } from '~/core/delivery/account'
import { RangeSet } from '~/core/delivery/ranges'
import { Curve, Durations, noCounts } from '~/core/prove/measure'
import { type Clock, sleep } from '../clock/clock'

/** So many verdicts are read in one turn of the loop. */
const A_TURN = 50_000

/** The messages of one delivery that belong to a run: from the first number on that was given after it began. */
export class Counting {
  readonly first: number
  private last: number | null = null
  private readonly durations = new Durations()

  constructor(
    private readonly account: Account,
    private readonly clock: Clock,
    /** Of all deliveries together. */
    private readonly all: { durations: Durations; curve: Curve; since: () => number },
  ) {
    this.first = account.numberedThrough + 1
    account.measured = (seq, ms) => this.measured(seq, ms)
  }

  private measured(seq: number, ms: number): void {
    if (seq < this.first || (this.last !== null && seq > this.last)) return
    this.durations.add(ms)
    this.all.durations.add(ms)
    this.all.curve.add(this.all.since() / 1000, ms)
  }

  /** The highest number that belongs to it. */
  get through(): number {
    return this.last ?? this.account.numberedThrough
  }
  get produced(): number {
    return this.through - this.first + 1
  }

  /** What is produced from now on does not belong to it. */
  end(): void {
    this.last ??= this.account.numberedThrough
  }

  /** How many have their verdict. */
  get judged(): number {
    return this.produced === 0 ? 0 : RangeSet.parse(this.account.standing.known.within(this.first, this.through)).count
  }

  get latency(): ProofLatency | null {
    return this.durations.summary
  }

  /** What became of each, as the ledger has it now. */
  async counts(): Promise<ProofCounts> {
    const counts = noCounts()
    for (let seq = this.first; seq <= this.through; seq++) {
      counts.produced++
      counts[this.account.verdict(seq) ?? 'waiting']++
      if (counts.produced % A_TURN === 0) await sleep(this.clock, 0)
    }
    return counts
  }

  stop(): void {
    this.account.measured = null
  }
}

/** What the durations of all deliveries of a run come to. */
export const together = (seconds: number, since: () => number) => ({ durations: new Durations(), curve: new Curve(seconds), since })
