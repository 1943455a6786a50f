import { fail } from '~/contract/failure'
import type { Plan, Publication } from '~/contract/publication'
import type { FoundWay, Way, WayQuery } from '~/contract/way'
import { answerOf, hopsOf, worth } from '~/core/proof/way'
import type { WayFacts } from '~/core/proof/way-facts'
import { filledBy } from '~/store/equipment'
import { getPublication, planOf, publicationsWhere } from '~/store/publication'
import type { Engine } from '../engine'
import { destinationFact, handlesOfPlan, lately, publicationFact, readsOf, sourceFacts, storeFact, tagFacts } from './facts'

/** So many ways are walked for one question. */
const WAYS_MOST = 50

/** Walks the hops of whatever does not arrive, and says at which it stops. */
export function findWay(engine: Engine, { of, id }: WayQuery): Promise<FoundWay> {
  const finder = new Finder(engine)
  if (of === 'publication') return finder.publication(id)
  return of === 'destination' ? finder.destination(id) : finder.tag(id)
}

class Finder {
  private readonly db
  private readonly reads

  constructor(private readonly engine: Engine) {
    this.db = engine.options.db
    this.reads = readsOf(engine)
  }

  private found(asked: WayQuery, subject: string, ways: readonly Way[], more = 0): FoundWay {
    const sorted = [...ways].sort((a, b) => worth(a) - worth(b))
    return { at: this.engine.clock.wall(), ...asked, subject, ways: sorted, more }
  }

  async publication(id: string): Promise<FoundWay> {
    const { storeState, publishers } = this.engine
    const running = publishers.get(id)
    // What runs can be spoken of without the database, which may be the very thing that is away.
    if (storeState.trouble !== null && running)
      return this.found({ of: 'publication', id }, running.plan.name, [await this.way(asRunning(running.plan), running.plan)])
    const one = await getPublication(this.db, id)
    const clauses = await publicationsWhere(this.db, (q) => q.where('also_of', '=', id))
    const ways = await Promise.all([one, ...clauses].map(async (p) => this.way(p, await this.planOf(p))))
    return this.found({ of: 'publication', id }, one.name, ways)
  }

  async destination(id: string): Promise<FoundWay> {
    const { destinations, publications } = this.engine
    const name = destinations.get(id)?.destination.name
    if (name === undefined) throw fail(404, 'destination.unknown', 'There is no such destination', 'Refresh the list', 'destination')
    const ids = [...new Set(publications.deliveries.filter((d) => d.destinationId === id).map((d) => d.publicationId))]
    const known = ids.slice(0, WAYS_MOST)
    const ways = await Promise.all(known.map(async (p) => this.ofOne(p)))
    if (ways.length === 0)
      ways.push(this.made({ ...this.none(), publication: null, destination: destinationFact(this.engine, id, null, null) }, name))
    return this.found({ of: 'destination', id }, name, ways, ids.length - known.length)
  }

  private async ofOne(id: string): Promise<Way> {
    const running = this.engine.publishers.get(id)
    if (this.engine.storeState.trouble !== null && running) return this.way(asRunning(running.plan), running.plan)
    const p = await getPublication(this.db, id)
    return this.way(p, await this.planOf(p))
  }

  async tag(id: string): Promise<FoundWay> {
    const { model, publishers, storeState } = this.engine
    const tag = model.tags.get(id)
    if (!tag) throw fail(404, 'tag.unknown', 'There is no such tag', 'It may have been removed: refresh the table', 'tag')
    const filled = storeState.trouble === null ? (await filledBy(this.db, 'tagId', [id])).map((f) => `${f.name} ${f.member}`) : null
    const carrying = [...publishers.values()].filter((p) => p.reads(tag.handle))
    const asked = { of: 'tag' as const, id }
    if (carrying.length === 0) {
      const tags = tagFacts(this.engine, this.reads, [tag.handle])
      // Nobody sends it; a publication that is paused may be meant to.
      const paused = storeState.trouble === null ? await this.notLive(tag.handle) : null
      const facts = {
        ...this.none(),
        tags,
        sources: sourceFacts(this.engine, tags),
        filled,
        publication: paused && publicationFact(this.engine, paused),
      }
      return this.found(asked, tag.name, [this.made(facts, '')])
    }
    // A tag without equipment is sent as it is.
    const members = filled?.length === 0 ? null : filled
    const ways = await Promise.all(
      carrying.slice(0, WAYS_MOST).map((p) => this.way(asRunning(p.plan), p.plan, { handles: new Set([tag.handle]), filled: members })),
    )
    return this.found(asked, tag.name, ways, Math.max(0, carrying.length - WAYS_MOST))
  }

  /** One that has been live, does not run, and would send it. */
  private async notLive(handle: number): Promise<Publication | null> {
    const still = await publicationsWhere(this.db, (q) => q.where('state', '=', 'paused').limit(WAYS_MOST))
    for (const p of still) {
      const plan = p.liveVersion === null ? null : await planOf(this.db, p.id, p.liveVersion)
      if (plan && handlesOfPlan(plan).has(handle)) return p
    }
    return null
  }

  private async planOf(p: Publication): Promise<Plan | null> {
    const running = this.engine.publishers.get(p.id)
    if (running) return running.plan
    return p.liveVersion === null ? null : planOf(this.db, p.id, p.liveVersion)
  }

  private none(): WayFacts {
    return {
      now: this.engine.clock.wall(),
      ...{ sources: [], tags: [], filled: null, publication: null, speaking: null, destination: null, recent: null },
      store: storeFact(this.engine),
    }
  }

  private async way(
    p: Pick<Publication, 'id' | 'name' | 'state' | 'off' | 'liveVersion' | 'destinationId'>,
    plan: Plan | null,
    only: { handles?: ReadonlySet<number>; filled?: WayFacts['filled'] } = {},
  ): Promise<Way> {
    const { engine } = this
    const running = engine.publishers.get(p.id)
    const tags = tagFacts(engine, this.reads, only.handles ?? (plan ? handlesOfPlan(plan) : []))
    const lane = plan ? engine.publications.laneOf(plan) : p.destinationId
    const late = plan ? await lately(engine, this.db, plan.delivery) : null
    const facts: WayFacts = {
      ...this.none(),
      tags,
      sources: sourceFacts(engine, tags),
      filled: only.filled ?? null,
      publication: publicationFact(engine, p),
      speaking: running?.facts() ?? null,
      destination: destinationFact(engine, lane, plan?.delivery ?? null, late?.aside ?? null),
      recent: late?.recent ?? null,
    }
    return this.made(facts, facts.destination?.name ?? '')
  }

  private made(facts: WayFacts, destination: string): Way {
    const hops = hopsOf(facts)
    const { publication } = facts
    return { publicationId: publication?.id ?? null, publication: publication?.name ?? '', destination, hops, at: answerOf(hops) }
  }
}

/** A publication that runs, as far as is known without the database. */
const asRunning = ({ publicationId: id, name, number, destinationId }: Plan) => ({
  ...{ id, name, destinationId, state: 'live' as const, liveVersion: number },
})
