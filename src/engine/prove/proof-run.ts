import { fail } from '~/contract/failure'
import type { ProofFault, ProofPlan, ProofProgress, ProofReport } from '~/contract/prove'
import { judgeLimits, outcomeOf } from '~/core/prove/limits'
import { sumOf } from '~/core/prove/measure'
import { faultWords } from '~/core/prove/words'
import { allTags } from '~/core/publication/steps/behind'
import { sleep } from '../clock/clock'
import type { DestinationSupervisor } from '../destinations/supervisor'
import type { Engine } from '../engine'
import { failureOf } from '../failure'
import type { Publisher } from '../publications/publisher'
import { Counting, together } from './counting'
import { FaultyLinks } from './links'
import { type Tested, testedOf } from './tested'

/** How often it is looked at, ms. */
const LOOK_MS = 100

interface Fault {
  is: ProofFault
  words: string
  state: ProofProgress['faults'][number]['state']
  /** Monotonic ms. */
  endedAt: number | null
  /** For each delivery of its destination: what had been numbered when it ended. */
  through: [number, number][]
  connections: number
  recoveredS: number | null
}

interface Watched {
  publisher: Publisher
  lane: DestinationSupervisor
  /** Of the settings of its destination when it began. */
  settings: number
  counting: Counting
}

/** One run: publications that are live are measured for a while, with more load and with faults where that is wanted. */
export class ProofRunning {
  private phase: ProofProgress['phase'] = 'preparing'
  private readonly faults: Fault[]
  private readonly links = new Map<string, FaultyLinks>()
  private watched: Watched[] = []
  private begunAt = 0
  /** When the last message that belongs to it was produced, monotonic ms. */
  private overAt: number | null = null
  private moved = 0
  private stopWhy: string | null = null
  private readonly measure: ReturnType<typeof together>

  constructor(
    private readonly engine: Engine,
    readonly id: string,
    readonly plan: ProofPlan,
    private readonly by: string,
  ) {
    this.measure = together(plan.seconds, () => this.clock.mono() - this.begunAt)
    this.faults = plan.faults.map((is) => ({
      ...{ is, words: faultWords(is, this.nameOf(is.destinationId)), state: 'ahead', endedAt: null, through: [], connections: 0, recoveredS: null },
    }))
  }

  private get clock() {
    return this.engine.clock
  }
  private nameOf(destinationId: string): string {
    return this.engine.destinations.get(destinationId)?.destination.name ?? 'a destination that is no more'
  }

  get progress(): ProofProgress {
    const { phase, plan, watched } = this
    const sum = (of: (c: Counting) => number) => watched.reduce((n, w) => n + of(w.counting), 0)
    return {
      phase,
      seconds: this.begunAt === 0 ? 0 : Math.round(((this.overAt ?? this.clock.mono()) - this.begunAt) / 100) / 10,
      of: plan.seconds,
      produced: sum((c) => c.produced),
      judged: sum((c) => c.judged),
      faults: this.faults.map(({ words, state, recoveredS }) => ({ words, state, recoveredS })),
    }
  }

  /** It ends as soon as it can; what it has changed is undone, and what is measured by then is told. */
  stop(why: string): void {
    this.stopWhy ??= why
  }

  /** Runs it. Whatever comes of it, nothing that it changed is left changed. */
  async run(): Promise<ProofReport> {
    const startedAt = new Date(this.clock.wall())
    let failed: string | null = null
    let tested: Tested | null = null
    try {
      const publishers = this.publishers()
      tested = await testedOf(this.engine, publishers)
      await this.prepare(publishers)
      await this.measured()
    } catch (e) {
      failed = failureOf(e, 'proof').message
    } finally {
      await this.undo()
    }
    this.phase = 'reporting'
    return this.report(startedAt, failed, tested ?? (await testedOf(this.engine, [])))
  }

  /** Those that are chosen, as they run; throws where one does not. */
  private publishers(): Publisher[] {
    return this.plan.publicationIds.map((id) => {
      const publisher = this.engine.publishers.get(id)
      if (publisher?.begun) return publisher
      throw fail(409, 'proof.not-live', 'A publication of the run is not live', 'Go live with it, or take it out of the run', 'publication')
    })
  }

  private async prepare(publishers: readonly Publisher[]): Promise<void> {
    const { engine, plan, clock } = this
    const lanes = publishers.map((publisher) => {
      const lane = engine.destinations.get(engine.publications.laneOf(publisher.plan))
      if (lane) return lane
      throw fail(409, 'proof.nowhere', `The destination of ${publisher.plan.name} does not run`, 'Switch it on', 'destination')
    })
    for (const id of new Set(plan.faults.map((f) => f.destinationId)))
      this.links.set(id, await FaultyLinks.between(engine.lanesOf(id), clock, () => this.stopWhy !== null))
    if (plan.load > 1) this.moved = engine.pace(new Set(publishers.flatMap((p) => allTags(p.plan))), plan.load)
    this.begunAt = clock.mono()
    this.watched = publishers.map((publisher, i) => ({
      ...{ publisher, lane: lanes[i]!, settings: lanes[i]!.destination.version },
      counting: new Counting(engine.ledger.account(publisher.plan.delivery), clock, this.measure),
    }))
  }

  private async measured(): Promise<void> {
    const { plan, clock } = this
    this.phase = 'running'
    for (;;) {
      const elapsed = clock.mono() - this.begunAt
      this.drive(elapsed)
      this.demandSame()
      const produced = this.watched.reduce((n, w) => n + w.counting.produced, 0)
      if (this.stopWhy !== null || elapsed >= plan.seconds * 1000 || produced >= (plan.messages ?? Number.POSITIVE_INFINITY)) break
      await sleep(clock, Math.min(LOOK_MS, plan.seconds * 1000 - elapsed))
    }
    this.overAt = clock.mono()
    for (const { counting } of this.watched) counting.end()
    if (plan.load > 1) this.engine.pace(new Set(), 1)
    for (const fault of this.faults) if (fault.state === 'on') this.endFault(fault)
    await this.settled()
  }

  /** Faults begin and end when their time has come. */
  private drive(elapsed: number): void {
    for (const fault of this.faults) {
      const { is } = fault
      if (fault.state === 'ahead' && elapsed >= is.atS * 1000) {
        const links = this.links.get(is.destinationId)!
        fault.connections = links.connections
        links.set(is)
        fault.state = 'on'
      }
      const over = is.kind === 'kill' || elapsed >= (is.atS + is.forS) * 1000
      if (fault.state === 'on' && over) this.endFault(fault)
      else if (fault.state === 'recovering' && this.hasRecovered(fault)) {
        fault.state = 'recovered'
        fault.recoveredS = Math.round((this.clock.mono() - fault.endedAt!) / 100) / 10
      }
    }
  }

  private endFault(fault: Fault): void {
    const { destinationId } = fault.is
    // Another one may have begun meanwhile: that goes on.
    const other = this.faults.find((f) => f !== fault && f.state === 'on' && f.is.destinationId === destinationId)
    this.links.get(destinationId)!.set(other?.is ?? null)
    fault.state = 'recovering'
    fault.endedAt = this.clock.mono()
    fault.through = this.engine.publications.deliveries
      .filter((d) => d.destinationId === destinationId)
      .map((d) => [d.number, this.engine.ledger.account(d.number).numberedThrough])
  }

  /** All connections stand, and what was produced until the fault ended has its answer. */
  private hasRecovered({ is, through }: Fault): boolean {
    return (
      this.links.get(is.destinationId)!.stand &&
      through.every(([delivery, seq]) => this.engine.ledger.account(delivery).standing.answered.through >= seq)
    )
  }

  /** What is measured is one version from beginning to end. */
  private demandSame(): void {
    for (const { publisher, lane, settings } of this.watched) {
      const { destination: to } = lane
      if (lane.stopped || to.version !== settings || !to.enabled)
        throw fail(
          409,
          'proof.changed',
          `${to.name} was changed or switched off while it was measured`,
          'Let nobody change it during a run',
          'destination',
        )
      const { publicationId, name, number } = publisher.plan
      const now = this.engine.publishers.get(publicationId)
      if (now === publisher) continue
      const what = now ? `was changed over to version ${now.plan.number}` : 'was paused'
      throw fail(
        409,
        'proof.changed',
        `${name}, version ${number}, ${what} while it was measured`,
        'Let nobody change it during a run',
        'publication',
      )
    }
  }

  /** Until every message has its verdict and every fault is over, at most as long as is allowed. */
  private async settled(): Promise<void> {
    const { clock, plan } = this
    this.phase = 'settling'
    const until = clock.mono() + plan.settleS * 1000
    const open = () => this.watched.some(({ counting }) => counting.judged < counting.produced) || this.faults.some((f) => f.state === 'recovering')
    while (open() && clock.mono() < until && this.stopWhy === null) {
      await sleep(clock, LOOK_MS)
      this.drive(0)
    }
    for (const fault of this.faults) if (fault.state === 'recovering') fault.state = 'never'
  }

  private async undo(): Promise<void> {
    for (const { counting } of this.watched) {
      counting.end()
      counting.stop()
    }
    if (this.plan.load > 1) this.engine.pace(new Set(), 1)
    for (const links of this.links.values()) {
      links.set(null)
      await links.close()
    }
  }

  private async report(startedAt: Date, failed: string | null, tested: Tested): Promise<ProofReport> {
    const { plan, engine, watched } = this
    const counts = await Promise.all(watched.map((w) => w.counting.counts()))
    const deliveries = watched.map(({ publisher: { plan: p }, lane, counting }, i) => ({
      ...{ publication: p.name, version: p.number, planSha256: tested.plans.get(p.publicationId)! },
      ...{ destination: lane.destination.name, witnessed: lane.destination.settings.witness, first: counting.first, last: counting.through },
      ...{ counts: counts[i]!, latency: counting.latency },
    }))
    const faults = this.faults.map(({ is, words, state, connections, recoveredS }) => ({
      ...{ destination: this.nameOf(is.destinationId), words, atS: is.atS, forS: is.forS },
      ...{ begun: state !== 'ahead', connections, recoveredS },
    }))
    const blind = deliveries.filter((d) => !d.witnessed)
    const limits = judgeLimits(plan.limits, {
      counts: sumOf(counts),
      latency: this.measure.durations.summary,
      unwitnessed: blind.map((d) => d.publication),
      unseen: blind.reduce((n, d) => n + d.counts.unknown, 0),
      recoveries: faults,
    })
    const why = failed ?? this.stopWhy ?? ''
    return {
      ...{ format: 'embrik proof report 1', id: this.id, name: plan.name, by: this.by },
      outcome: failed !== null ? 'failed' : this.stopWhy !== null ? 'stopped' : outcomeOf(limits),
      why: why === '' || /[.!?]$/.test(why) ? why : `${why}.`,
      startedAt: startedAt.toISOString(),
      endedAt: new Date(this.clock.wall()).toISOString(),
      seconds: this.begunAt === 0 ? 0 : Math.round(((this.overAt ?? this.clock.mono()) - this.begunAt) / 100) / 10,
      ...{ plan, limits, counts: sumOf(counts), latency: this.measure.durations.summary, curve: this.measure.curve.all, deliveries, faults },
      load: { multiple: plan.load, tags: this.moved },
      destinations: tested.destinations,
      clocks: tested.clocks,
      environment: engine.environment(),
    }
  }
}
