import type { Plan, Publication } from '~/contract/publication'
import { handlesOf } from '~/core/equipment/resolve'
import { type RecentFact, recentOf } from '~/core/proof/recent'
import type { DestinationFact, PublicationFact, SourceFact, TagFact, WayFacts } from '~/core/proof/way-facts'
import { Status } from '~/core/value/quality'
import { lastAside } from '~/store/aside'
import type { Db } from '~/store/database'
import { slicesOf } from '~/store/ledger'
import type { Engine } from '../engine'

/** Messages made in this while are spoken of, ms. */
const LATELY_MS = 300_000

/** What there is to a handle: a tag, or a place in a record. */
interface Read {
  id: string | null
  name: string
  sourceId: string
}

/** What was last found, for as long as the model is the same: whoever looks asks every few seconds. */
const found = new WeakMap<object, { records: object; reads: ReadonlyMap<number, Read> }>()

/** Tags and records by handle, as the engine has them now. */
export function readsOf({ model }: Engine): ReadonlyMap<number, Read> {
  const before = found.get(model.tags)
  if (before?.records === model.recordTags) return before.reads
  const out = new Map<number, Read>()
  for (const t of model.recordTags) out.set(t.handle, { id: null, name: `record ${t.address}`, sourceId: t.sourceId })
  for (const t of model.tags.values()) out.set(t.handle, { id: t.id, name: t.name, sourceId: t.sourceId })
  found.set(model.tags, { records: model.recordTags, reads: out })
  return out
}

/** Handles that a plan reads. */
export function handlesOfPlan({ equipment, messages }: Plan): ReadonlySet<number> {
  const out = new Set<number>()
  for (const e of equipment) for (const m of e.members) for (const h of handlesOf(m.fill)) out.add(h)
  for (const { condition } of messages) {
    if (condition) for (const h of handlesOf(condition.when)) out.add(h)
    if (condition?.until) for (const h of handlesOf(condition.until)) out.add(h)
  }
  return out
}

export function tagFacts(engine: Engine, reads: ReadonlyMap<number, Read>, handles: Iterable<number>): TagFact[] {
  const { table } = engine
  const out: TagFact[] = []
  for (const h of handles) {
    const read = reads.get(h)
    const { id, name, sourceId } = read ?? { id: null, name: 'a tag that was removed', sourceId: '' }
    const status = read ? (table.status[h] ?? Status.waitingForInitialData) : Status.nodeUnknown
    out.push({ id, name, sourceId, status, note: table.notes.get(h)?.text ?? '', seen: table.seen[h] ?? 0 })
  }
  return out
}

export function sourceFacts(engine: Engine, tags: readonly TagFact[]): SourceFact[] {
  const ids = [...new Set(tags.map((t) => t.sourceId))].filter((id) => id !== '')
  return ids.map((id) => {
    const s = engine.sources.get(id)
    return { id, name: s?.source.name ?? 'a source that is not here', condition: s?.present() ?? null }
  })
}

export function publicationFact(engine: Engine, p: Pick<Publication, 'id' | 'name' | 'state' | 'off' | 'liveVersion'>): PublicationFact {
  const { id, name, state, off, liveVersion } = p
  const broken = engine.publications.broken.get(id)
  return { id, name, state, off: off ?? false, version: liveVersion, broken: broken ? { failure: broken.failure, since: broken.since } : null }
}

/** How a destination stands for one publication on it. */
export function destinationFact(engine: Engine, lane: string, delivery: number | null, aside: DestinationFact['aside']): DestinationFact | null {
  const d = engine.destinations.get(lane)
  if (!d) return null
  const { outbox, destination } = d
  return {
    id: destination.parentId ?? destination.id,
    name: destination.name,
    enabled: destination.enabled,
    condition: d.present(),
    connected: d.connected,
    unansweredMs: d.unansweredMs,
    waiting: outbox.waiting,
    bytes: outbox.bytes,
    cap: outbox.cap,
    aside,
    witness: delivery === null ? (d.witness ? (d.witness.view() ? 'there' : 'away') : 'none') : engine.ledger.witnessOf(delivery),
    witnessCondition: d.witness?.present() ?? null,
  }
}

/** What became of a delivery's messages of late; null: the database cannot be asked. */
export async function lately(engine: Engine, db: Db, delivery: number): Promise<{ recent: RecentFact; aside: DestinationFact['aside'] } | null> {
  if (engine.storeState.trouble !== null) return null
  const since = engine.clock.wall() - LATELY_MS
  const [slices, aside] = await Promise.all([slicesOf(db, delivery, since), lastAside(db, delivery, since)])
  return { recent: recentOf(slices, since), aside }
}

export const storeFact = ({ storeState: { trouble } }: Engine): WayFacts['store'] =>
  trouble && { message: trouble.message, hint: trouble.hint, since: trouble.since }
