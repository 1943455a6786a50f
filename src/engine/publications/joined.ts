import type { Plan } from '~/contract/publication'

/** What is kept of an equipment that was told of, by its id. */
const placeOf = (id: string) => `joined ${id}`
const PLACE = placeOf('')

/** Equipment that joins a publication: each is told of once, over starts and versions, for as long as it takes part. */
export class Joined {
  private known = new Set<string>()
  /** Messages about equipment that nobody was told of yet. */
  private readonly toTell = new Set<number>()

  constructor(private readonly plan: Pick<Plan, 'messages' | 'equipment'>) {}

  private idsOf(n: number): string[] {
    return this.plan.messages[n]!.equipment.map((e) => this.plan.equipment[e]!.id)
  }

  remember(kept: ReadonlyMap<string, string>): void {
    this.known = new Set([...kept.keys()].filter((place) => place.startsWith(PLACE)).map((place) => place.slice(PLACE.length)))
  }

  memory(): ReadonlyMap<string, string> {
    // What takes part no more and comes back joins again.
    const there = this.plan.equipment.filter((e) => this.known.has(e.id))
    return new Map(there.map((e) => [placeOf(e.id), '1']))
  }

  /** `all`: what is there when it runs for the first time has joined too. */
  begin(all: boolean): void {
    if (!all && this.known.size === 0) for (const { id } of this.plan.equipment) this.known.add(id)
    for (const n of this.plan.messages.keys()) if (this.idsOf(n).some((id) => !this.known.has(id))) this.toTell.add(n)
  }

  get waiting(): boolean {
    return this.toTell.size > 0
  }

  /** Those that can be told now: each is given once. */
  ready(complete: (n: number) => boolean): number[] {
    const out = [...this.toTell].filter(complete)
    for (const n of out) this.toTell.delete(n)
    return out
  }

  /** A message went: what it is about is known. */
  spoke(n: number): void {
    for (const id of this.idsOf(n)) this.known.add(id)
  }
}
