import type { Lane } from '~/contract/destination'
import { fail } from '~/contract/failure'
import type { Db } from '~/store/database'
import { listLanes } from '~/store/lane'
import { failureOf, openedOrLeft } from '../failure'
import { ItemQueues } from '../item-queues'
import type { DestinationContext } from './lane'
import { driverOf } from './registry'
import type { NodeSession } from './session'
import { DestinationSupervisor } from './supervisor'

export type DestinationsContext = Omit<DestinationContext, 'driver'>

/** All destinations, and each node that speaks there by itself: each connection in a compartment of its own, by the id of its lane. */
export class Destinations {
  readonly running = new Map<string, DestinationSupervisor>()
  private readonly queues: ItemQueues
  private filters = new Map<string, readonly string[]>()

  constructor(
    private readonly db: Db,
    private readonly ctx: DestinationsContext,
  ) {
    this.queues = new ItemQueues((id, e) => {
      const d = this.running.get(id)?.destination
      const f = failureOf(e, 'destination')
      if (d) ctx.event(d, 'trouble', f.code, f.message, f.hint)
    })
  }

  /** Brings what runs to what is configured, one by one; resolves when all is begun. `filters` is what is to be read back, by lane. */
  async reconcile(filters: ReadonlyMap<string, readonly string[]>): Promise<void> {
    this.filters = new Map(filters)
    const wanted = new Map((await listLanes(this.db)).map((d) => [d.id, d]))
    for (const [id, running] of this.running) {
      if (wanted.has(id)) continue
      this.running.delete(id)
      void this.queues.add(id, () => running.stop())
    }
    for (const d of wanted.values()) this.takeUp(d)
  }

  private takeUp(d: Lane): void {
    const running = this.running.get(d.id)
    if (running) {
      if (running.wantedVersion === d.version) return
      running.wantedVersion = d.version
      void this.queues.add(d.id, () => running.change(d))
      return
    }
    // Its outbox takes messages from now on, whatever keeps the rest from starting.
    const fresh = new DestinationSupervisor(d, { ...this.ctx, driver: driverOf(d.kind) })
    this.running.set(d.id, fresh)
    void this.queues.add(d.id, () => fresh.start(this.filters.get(d.id) ?? []))
  }

  /** What connects by a credential that holds something else by now connects anew. What cannot be opened is left as it is: it may still be connected. */
  async credentialsChanged(): Promise<void> {
    for (const [id, running] of [...this.running]) {
      const { destination } = running
      const target = await openedOrLeft(() => this.ctx.target(destination))
      // Where other settings were taken up meanwhile, its credentials were opened with them.
      if (target) void this.queues.add(id, () => (running.destination === destination ? running.takeUp(target) : undefined))
    }
  }

  /** Does something for one destination, after all that was begun for it before. */
  for(id: string, work: (d: DestinationSupervisor | null) => Promise<void> | void): Promise<void> {
    return this.queues.add(id, () => work(this.running.get(id) ?? null))
  }

  /** Says whom each connection speaks for. */
  speakFor(sessions: ReadonlyMap<string, NodeSession>): void {
    for (const [id, d] of this.running) void d.speakFor(sessions.get(id) ?? null)
  }

  /** The connections of a destination: its own, and those of the nodes that speak there. Throws when there is none. */
  lanesOf(destinationId: string): DestinationSupervisor[] {
    const all = [...this.running.values()].filter(({ destination: d }) => d.id === destinationId || d.parentId === destinationId)
    if (all.length === 0) throw fail(404, 'destination.unknown', 'There is no such destination', 'Refresh the list', 'destination')
    return all
  }

  settled(): Promise<void> {
    return this.queues.settled()
  }

  async stop(): Promise<void> {
    await Promise.all([...this.running.values()].map((d) => d.stop()))
  }
}
