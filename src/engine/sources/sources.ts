import { credentialsOf, type Source } from '~/contract/source'
import type { Tag } from '~/contract/tag'
import type { Db } from '~/store/database'
import { getSource, listSources, sourcePassword } from '~/store/source'
import type { Vault } from '~/store/vault'
import type { Events } from '../events'
import { failureOf, openedOrLeft } from '../failure'
import { ItemQueues } from '../item-queues'
import type { LiveTable } from '../live/table'
import type { ModelCache } from '../world'
import type { Documents } from './documents'
import type { SourceContext, SourceTarget } from './driver'
import { Simulation } from './simulation'
import { SourceSupervisor } from './supervisor'

export interface SourcesOptions {
  db: Db
  vault: Vault
  table: LiveTable
  model: ModelCache
  events: Events
  documents: Documents
  context: () => SourceContext
  /** Opens what a source refers to. */
  target: (s: Source, password: string | null) => Promise<SourceTarget>
}

/** All sources, each in a compartment of its own: what one does, or does not do, no other waits for. */
export class Sources {
  readonly running = new Map<string, SourceSupervisor>()
  private readonly simulation: Simulation
  private readonly queues: ItemQueues

  constructor(private readonly o: SourcesOptions) {
    this.simulation = new Simulation(o.table)
    this.queues = new ItemQueues((id, e) => this.trouble(id, e))
  }

  private trouble(id: string, e: unknown): void {
    const f = failureOf(e, 'source')
    const subject = this.running.get(id)?.source.name ?? id
    this.o.events.add({ severity: 'trouble', where: 'source', subjectId: id, subject, code: f.code, message: f.message, hint: f.hint })
  }

  /** Brings what runs to what is configured, one by one. Resolves when all is begun. */
  async reconcile(): Promise<void> {
    const wanted = new Map((await listSources(this.o.db)).map((s) => [s.id, s]))
    for (const [id, running] of this.running) {
      const now = wanted.get(id)
      if (now && now.version === running.source.version) continue
      this.running.delete(id)
      void this.queues
        .add(id, () => running.stop())
        .then(() => {
          if (!now) this.o.documents.forget(id)
        })
    }
    const tags = this.tagsBySource()
    // First what is on simulation no more is forgotten there, then the sources take it up; and the other way round.
    this.simulation.release(tags.simulated)
    for (const source of wanted.values()) {
      const own = tags.bySource.get(source.id) ?? []
      const { groupRates } = this.o.model
      if (!this.running.has(source.id)) {
        // Not before the one it replaces has let go of its tags and its connection.
        const next = this.supervise(source)
        this.running.set(source.id, next)
        void this.queues.add(source.id, () => {
          if (this.running.get(source.id) === next) next.start()
        })
      }
      const supervisor = this.running.get(source.id)!
      void this.queues.add(source.id, () => supervisor.setTags(own, groupRates))
    }
    this.simulation.take(tags.simulated)
  }

  private tagsBySource(): { bySource: Map<string, Tag[]>; simulated: Tag[] } {
    const bySource = new Map<string, Tag[]>()
    const simulated: Tag[] = []
    const add = (t: Tag) => {
      const list = bySource.get(t.sourceId)
      if (list) list.push(t)
      else bySource.set(t.sourceId, [t])
      this.o.table.ensure(t.handle)
    }
    for (const t of this.o.model.tags.values()) {
      if (t.simulated) simulated.push(t)
      else add(t)
    }
    for (const r of this.o.model.recordTags) add(r)
    return { bySource, simulated }
  }

  private async open(source: Source): Promise<SourceTarget> {
    return this.o.target(source, await sourcePassword(this.o.db, this.o.vault, source.id))
  }

  private supervise(source: Source): SourceSupervisor {
    const { table, events, context, documents } = this.o
    return new SourceSupervisor(source, () => this.open(source), context(), table, events, documents)
  }

  /** What connects by a credential that holds something else by now begins anew; what cannot be opened is left as it is. */
  async credentialsChanged(): Promise<void> {
    for (const [id, running] of [...this.running]) {
      if (credentialsOf(running.source).length === 0) continue
      const target = await openedOrLeft(() => this.open(running.source))
      if (target && !running.connectsBy(target)) this.restart(id).catch((e: unknown) => this.trouble(id, e))
    }
  }

  /** Ends one source's connection and begins anew; the others don't notice. */
  async restart(id: string): Promise<void> {
    const old = this.running.get(id)
    const next = this.supervise(await getSource(this.o.db, id))
    this.running.set(id, next)
    await this.queues.add(id, async () => {
      await old?.stop()
      next.start()
    })
    await this.reconcile()
  }

  /** Simulated tags move so many times as fast, until `multiple` is 1; gives how many do. */
  pace(handles: ReadonlySet<number>, multiple: number): number {
    let count = this.simulation.pace(handles, multiple)
    for (const running of this.running.values()) count += running.pace(handles, multiple)
    return count
  }

  /** What was begun for single sources is done. */
  settled(): Promise<void> {
    return this.queues.settled()
  }

  async stop(): Promise<void> {
    this.simulation.stop()
    await Promise.all([...this.running.values()].map((s) => s.stop()))
  }
}
