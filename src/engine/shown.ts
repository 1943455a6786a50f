import type { Condition, CourseFigures, LedgerLine, LiveFrames } from '~/contract/live'
import type { Clock } from './clock/clock'
import { type CourseParts, courseOf } from './course'
import type { DestinationSupervisor } from './destinations/supervisor'
import { asOne, type NodeFigures } from './lanes'
import type { Publications } from './publications/publications'
import type { SourceSupervisor } from './sources/supervisor'
import type { StoreState } from './store-state'
import type { TagTroubles } from './tag-troubles'

/** What is shown is reckoned so often at most, however many look, ms. */
const FRESH_MS = 150

/** The parts of an engine that are looked at. */
export interface SeenParts extends Omit<CourseParts, 'publications'> {
  readonly clock: Clock
  readonly publications: Publications
  readonly storeState: StoreState
  readonly tagTroubles: TagTroubles
  readonly sources: ReadonlyMap<string, SourceSupervisor>
  readonly destinations: ReadonlyMap<string, DestinationSupervisor>
}

/** Everything that people see of a running engine, reckoned once for all who look. */
export class Shown {
  private readonly kept = new Map<string, { at: number; value: unknown }>()

  constructor(private readonly engine: SeenParts) {}

  private fresh<T>(name: string, make: () => T): T {
    const now = this.engine.clock.mono()
    const there = this.kept.get(name)
    if (there && now - there.at < FRESH_MS) return there.value as T
    const value = make()
    this.kept.set(name, { at: now, value })
    return value
  }

  lines(): LedgerLine[] {
    const { ledger, publications } = this.engine
    return this.fresh('lines', () =>
      publications.deliveries.flatMap((d) => {
        const counts = ledger.countsOf(d.number)
        if (!counts) return []
        return [
          {
            delivery: d.number,
            publicationId: d.publicationId,
            publication: d.publication,
            destinationId: d.destinationId,
            destination: d.destination,
            counts,
            latency: ledger.latencyOf(d.number),
            witness: ledger.witnessOf(d.number),
            acknowledges: this.engine.destinations.get(d.destinationId)?.acknowledges ?? true,
          },
        ]
      }),
    )
  }

  course(): CourseFigures {
    return this.fresh('course', () => courseOf(this.engine, Object.values(this.destinations()), Object.values(this.publications())))
  }

  sources(): LiveFrames['sources'] {
    return this.fresh('sources', () => Object.fromEntries([...this.engine.sources].map(([id, s]) => [id, this.withDoubt(id, s.present())])))
  }

  /** A source that runs while a part of it gives nothing is not simply running. */
  private withDoubt(id: string, c: Condition): Condition {
    const troubled = c.state === 'running' ? this.engine.tagTroubles.ofSource(id) : null
    return troubled ? { ...c, doubt: `${troubled.count} of ${troubled.of} tags not good: ${troubled.reason}` } : c
  }

  /** Every connection by its lane: those of destinations, of nodes that speak there by themselves, and of what goes ahead. */
  private lanes(): Map<string, LiveFrames['destinations'][string]> {
    return this.fresh(
      'lanes',
      () =>
        new Map(
          [...this.engine.destinations].map(([id, d]) => [
            id,
            {
              sender: this.withStore(d.present()),
              witness: d.witness?.present() ?? null,
              waiting: d.outbox.waiting,
              bytes: d.outbox.bytes,
              capBytes: d.outbox.cap,
            },
          ]),
        ),
    )
  }

  destinations(): LiveFrames['destinations'] {
    return this.fresh('destinations', () => {
      const lanes = this.lanes()
      const nodes = new Map<string, NodeFigures[]>()
      for (const [id, { destination: d }] of this.engine.destinations)
        if (d.parentId !== null)
          nodes.set(d.parentId, [...(nodes.get(d.parentId) ?? []), { who: d.ahead ? 'what goes ahead' : `node ${d.node}`, figures: lanes.get(id)! }])
      return Object.fromEntries(
        [...lanes].flatMap(([id, own]) => (this.engine.destinations.get(id)?.destination.parentId ? [] : [[id, asOne(own, nodes.get(id) ?? [])]])),
      )
    })
  }

  /** While nothing can be stored that is the trouble, whatever else there is. */
  private withStore(c: Condition): Condition {
    const { trouble } = this.engine.storeState
    if (trouble === null || c.state === 'off') return c
    return {
      ...c,
      state: 'trouble',
      reason: `${trouble.message}; nothing is stored, and what is not stored is not sent`,
      hint: trouble.hint,
      since: trouble.since,
    }
  }

  publications(): LiveFrames['publications'] {
    return this.fresh('publications', () => this.engine.publications.conditions((lane) => this.lanes().get(lane)?.sender ?? null))
  }
}
