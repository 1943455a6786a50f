import type { Plan } from '~/contract/publication'
import { UNSURE } from '~/core/rows/changes'
import type { Db } from '~/store/database'
import { forgetMemory, keepMemory, memoryOf } from '~/store/publication-memory'
import { type Cancel, type Clock, within } from '../clock/clock'
import { log, wordsOf } from '../log'
import type { Publisher } from './publisher'

/** What steps keep is written so often, ms: so much of it may be lost when the engine is killed. */
const KEEP_MS = 10_000
/** So long it waits until what was told is stored, ms: what is not by then is kept the next time. */
const STORED_MS = 10_000

/** Whether a plan has steps, or a trigger, that keep something from one message to the next. */
export const remembers = ({ steps = [], trigger, feed }: Pick<Plan, 'steps' | 'trigger' | 'feed'>): boolean =>
  tellsOnce({ trigger, feed }) || steps.some((s) => s.kind === 'script' || s.kind === 'smooth' || s.kind === 'bridge')

/** Whether what it keeps is what was told: of that nothing may be left out. */
const tellsOnce = ({ trigger, feed }: Pick<Plan, 'trigger' | 'feed'>): boolean =>
  feed !== undefined || (trigger.kind === 'event' && trigger.of === 'joined')

/** What the steps of publications keep, over a start and from one version to the next. */
export class StepMemory {
  /** What the database has, by publication. */
  private readonly kept = new Map<string, Map<string, string>>()
  private readonly stopKeeping: Cancel
  private keeping: Promise<void> = Promise.resolve()
  private underWay = 0
  /** Publications whose memory is being written just now. */
  private readonly writing = new Set<string>()

  constructor(
    private readonly db: Db,
    private readonly clock: Clock,
    private readonly running: () => Iterable<Publisher>,
    /** Whether this engine is the one that writes. */
    private readonly mayKeep: () => boolean,
  ) {
    // One that is still under way, as while the database is silent, is not followed by others.
    this.stopKeeping = clock.every(KEEP_MS, () => (this.underWay === 0 ? void this.keep(this.running()) : undefined))
  }

  /** Reads what was kept, once; without it the steps of a plan begin anew. */
  async read(plan: Plan): Promise<void> {
    if (!remembers(plan)) return
    await this.keeping
    if (this.kept.has(plan.publicationId)) return
    this.kept.set(plan.publicationId, await memoryOf(this.db, plan.publicationId))
  }

  of(publicationId: string): ReadonlyMap<string, string> {
    return this.kept.get(publicationId) ?? new Map()
  }

  /** Whether it is written already that nobody knows what was told last of a row. */
  isUnsure(publicationId: string, place: string): boolean {
    return !this.writing.has(publicationId) && this.kept.get(publicationId)?.get(place) === UNSURE
  }

  /** Writes that nobody knows what was told last of these rows: before anything is told of them. Rejects where it cannot be written now. */
  unsure(publicationId: string, places: readonly string[]): Promise<void> {
    const written = this.keeping.then(async () => {
      if (!this.mayKeep()) throw new Error('another engine writes')
      const kept = this.kept.get(publicationId) ?? new Map<string, string>()
      const some = places.filter((place) => kept.get(place) !== UNSURE)
      if (some.length > 0)
        await keepMemory(
          this.db,
          publicationId,
          some.map((place) => [place, UNSURE] as const),
        )
      this.kept.set(publicationId, new Map([...kept, ...some.map((place) => [place, UNSURE] as const)]))
    })
    this.keeping = written.catch(() => undefined)
    return written
  }

  /** A publication does not run here any more. */
  forget(publicationId: string): void {
    this.kept.delete(publicationId)
  }

  /** Writes what these keep now, as far as it is not written yet; what cannot be written is tried again the next time. */
  keep(publishers: Iterable<Publisher>): Promise<void> {
    const all = [...publishers]
    this.underWay++
    this.keeping = this.keeping
      .then(async () => {
        for (const p of all) if (remembers(p.plan)) await this.keepOne(p)
      })
      .finally(() => this.underWay--)
    return this.keeping
  }

  private async keepOne(p: Publisher): Promise<void> {
    if (!this.mayKeep()) return
    const id = p.plan.publicationId
    this.writing.add(id)
    try {
      const now = p.memory() ?? new Map<string, string>()
      // What was told of rows, or of who joined, is known for told only when the messages that tell it are stored.
      if (tellsOnce(p.plan) && (await within(this.clock, STORED_MS, p.stored())) === null) return
      const before = this.kept.get(id) ?? new Map<string, string>()
      const changed = [...now].filter(([place, kept]) => before.get(place) !== kept)
      const gone = [...before.keys()].filter((place) => !now.has(place))
      if (changed.length > 0) await keepMemory(this.db, id, changed)
      if (gone.length > 0) await forgetMemory(this.db, id, gone)
      if (this.kept.has(id)) this.kept.set(id, now)
    } catch (e) {
      log('warn', 'publications', `${p.plan.name}: what its steps keep is not written yet: ${wordsOf(e)}`)
    } finally {
      this.writing.delete(id)
    }
  }

  stop(): void {
    this.stopKeeping()
  }
}
