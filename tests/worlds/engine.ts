import type { Lane } from '~/contract/destination'
import type { Plan } from '~/contract/publication'
import { mqttDriverOver } from '~/engine/destinations/mqtt/driver'
import { DestinationSupervisor } from '~/engine/destinations/supervisor'
import { ItemQueues } from '~/engine/item-queues'
import { LeaseKeeper } from '~/engine/lease-keeper'
import { Ledger } from '~/engine/ledger/ledger'
import { LiveTable } from '~/engine/live/table'
import { Publisher } from '~/engine/publications/publisher'
import { scriptsHere } from '~/engine/scripts/scripts'
import { Documents } from '~/engine/sources/documents'
import { Owner, SimClock } from './scheduler'
import { troubleOf } from './store'
import type { World } from './world'

/** Messages pass as they are: packing uses threads, which a world has not. */
const plainPacking = { pack: (raw: Uint8Array) => Promise.resolve(raw), unpack: (body: Uint8Array) => Promise.resolve(body) }

/** One engine of a world: the real publisher, outbox, supervisor, witness, ledger and lease keeper, on what the world gives them. */
export class SimEngine {
  readonly owner = new Owner()
  readonly table = new LiveTable()
  readonly ledger: Ledger
  readonly lease: LeaseKeeper
  readonly destinations = new Map<string, DestinationSupervisor>()
  readonly publishers = new Map<string, Publisher>()
  private readonly clock: SimClock
  private readonly queues: ItemQueues
  private readonly store
  up = false

  constructor(
    private readonly world: World,
    readonly name: string,
  ) {
    this.clock = new SimClock(world.scheduler, this.owner, world.machine)
    const lease = world.database.leaseOf(this.owner)
    this.lease = new LeaseKeeper(lease, this.clock, () => this.kill(true, 'another engine has taken over'))
    this.store = world.database.store(this.owner, () => lease.epoch)
    this.queues = new ItemQueues((id, e) => world.problem(`${name}: ${id}: ${e instanceof Error ? e.stack : String(e)}`))
    this.ledger = new Ledger({
      store: this.store,
      clock: this.clock,
      fenced: () => this.lease.lost(),
      trouble: () => undefined,
      troubleOf,
      highWater: {
        read: () => structuredClone(world.highWater),
        write: (h) => {
          if (this.owner.alive && this.lease.valid()) world.highWater = structuredClone(h)
        },
      },
    })
  }

  get epoch(): number {
    return this.lease.epoch
  }

  async start(): Promise<void> {
    await this.lease.acquire()
    for (let wait = 500; ; wait = 2000) {
      try {
        await this.ledger.load()
        break
      } catch {
        await new Promise<void>((done) => this.clock.after(wait, done))
      }
    }
    if (!this.owner.alive) return
    this.up = true
    this.reconcile()
    this.ledger.start()
  }

  private supervise(d: Lane): DestinationSupervisor {
    const { world, clock } = this
    return new DestinationSupervisor(d, {
      clock,
      store: this.store,
      packing: plainPacking,
      installation: 'aaaaaaaa',
      ledger: this.ledger,
      driver: mqttDriverOver(world.net.dial(this.owner, (client, bytes) => world.wrote(this, client, bytes))),
      event: (dest, severity, code, message) => world.event(this, dest.name, severity, code, message),
      target: (dest) =>
        Promise.resolve({ id: dest.id, name: dest.name, settings: dest.settings, authority: null, credential: null, witnessCredential: null }),
      maySend: () => this.lease.valid(),
      mayHold: () => this.lease.mayHold(),
      fenced: () => this.lease.lost(),
      storeTrouble: () => undefined,
      troubleOf,
      step: () => undefined,
      putAside: (a) => world.aside(a),
      deliveriesOf: (id) => world.plans.filter((p) => p.destinationId === id).map((p) => p.delivery),
      isThere: (delivery) => world.plans.some((p) => p.delivery === delivery),
    })
  }

  /** Takes up what is configured now. */
  reconcile(): void {
    if (!this.up) return
    for (const d of this.world.destinations.map((one): Lane => ({ ...one, parentId: null, ahead: false, node: '' }))) {
      let running = this.destinations.get(d.id)
      if (!running) {
        running = this.supervise(d)
        this.destinations.set(d.id, running)
        const fresh = running
        void this.queues.add(d.id, () => fresh.start(this.world.filtersOf(d.id)))
      } else if (running.wantedVersion !== d.version) {
        running.wantedVersion = d.version
        const changed = running
        void this.queues.add(d.id, () => changed.change(d))
      }
      const supervisor = running
      void this.queues.add(d.id, async () => {
        await supervisor.watch(this.world.filtersOf(d.id))
        this.swap(d.id)
      })
    }
  }

  /** As the engine does it: prepared first, exchanged in one turn. */
  private swap(destinationId: string): void {
    const wanted = this.world.plans.filter((p) => p.destinationId === destinationId)
    const fresh: Publisher[] = []
    for (const plan of wanted) {
      const running = this.publishers.get(plan.publicationId)
      if (!this.world.isLive(plan)) {
        running?.stop()
        this.publishers.delete(plan.publicationId)
      } else if (running?.plan.number !== plan.number) fresh.push(this.prepare(plan))
    }
    for (const p of fresh) {
      this.publishers.get(p.plan.publicationId)?.stop()
      this.publishers.set(p.plan.publicationId, p)
    }
    // No two messages of a world are alike: what a version says first is a change of that moment.
    if (fresh.length > 0) this.world.changeTags(this)
    for (const p of fresh) p.begin()
  }

  private prepare(plan: Plan): Publisher {
    const { clock, ledger, table, world } = this
    const outbox = () => this.destinations.get(plan.destinationId)?.outbox ?? null
    return new Publisher(plan, {
      clock,
      ledger,
      table,
      outbox,
      scripts: scriptsHere(),
      documents: new Documents(),
      notYet: () => undefined,
      trouble: (_id, name, e) => world.problem(`${this.name}: ${name}: ${e instanceof Error ? e.stack : String(e)}`),
    })
  }

  /** It is gone, at this very moment; whether the other sides of its connections hear of it. */
  kill(told: boolean, why = 'killed'): void {
    if (!this.owner.alive) return
    this.world.note(`${this.name} ${why}`)
    this.owner.alive = false
    this.up = false
    this.world.net.orphan(this.owner, told)
  }
}
