import type { Outgoing } from '../driver'
import { readRowId } from '../rows'
import { decode } from './format'
import { readName } from './names'
import type { Store } from './store'

/** What becomes of a message that waits: it goes, it is there already, or nobody can say just now. */
export interface Fate {
  goes(): void
  has(): void
  unsure(e: unknown): void
}

/**
 * Messages of which nobody knows whether their file was finished: those that an earlier run left, and those of a file that does not go
 * again as it was. Before they go, it is looked for, so that each is in one file. What an earlier run left can only be told where ids are
 * carried. What comes behind them waits, and all keep their order.
 */
export class Doubtful {
  private kept: ReadonlySet<string> | null = null
  private readonly there = new Map<string, boolean>()
  private waiting: { m: Outgoing; fate: Fate }[] = []

  constructor(
    private readonly store: Store,
    private readonly tag: string,
    private readonly idColumn: string,
    /** By position the file in which a message may be. */
    private readonly apart: ReadonlyMap<number, string>,
  ) {}

  /** It is being looked. */
  get looking(): boolean {
    return this.waiting.length > 0
  }

  /** Decides on a message, at once or when it has been looked; asked of each in their order. */
  settle(m: Outgoing, fate: Fate): void {
    if (!this.looking && !this.toLook(m)) return this.decide(m, fate)
    this.waiting.push({ m, fate })
    if (this.waiting.length === 1) void this.look()
  }

  private ofEarlier({ inDoubt }: Outgoing): boolean {
    return inDoubt && this.idColumn !== ''
  }

  private toLook(m: Outgoing): boolean {
    const name = this.apart.get(m.ordinal)
    return (this.ofEarlier(m) && this.kept === null) || (name !== undefined && !this.there.has(name))
  }

  private async look(): Promise<void> {
    try {
      // Whoever is sent meanwhile waits behind those that wait.
      for (let next = this.waiting[0]; next; next = this.waiting[0]) {
        if (this.ofEarlier(next.m)) this.kept ??= await this.idsFrom(next.m.ordinal)
        const name = this.apart.get(next.m.ordinal)
        if (name !== undefined && !this.there.has(name)) this.there.set(name, (await this.store.get(name)) !== null)
        this.decide(next.m, next.fate)
        this.waiting.shift()
      }
    } catch (e) {
      for (const { fate } of this.waiting.splice(0)) fate.unsure(e)
    }
  }

  private decide(m: Outgoing, fate: Fate): void {
    const name = this.apart.get(m.ordinal)
    if ((m.inDoubt && this.kept?.has(m.id)) || (name !== undefined && this.there.get(name))) fate.has()
    else fate.goes()
  }

  /** Ids of messages in finished files of ours that reach this position or beyond. */
  private async idsFrom(ordinal: number): Promise<ReadonlySet<string>> {
    const ids = new Set<string>()
    for await (const names of this.store.list(''))
      for (const name of names) {
        const file = readName(name)
        if (file?.tag !== this.tag || file.last < ordinal) continue
        const octets = await this.store.get(name)
        // One that cannot be read holds nothing that anybody has.
        const rows = octets ? await decode(octets, name, this.idColumn).catch(() => []) : []
        for (const { id } of rows) if (id !== null) ids.add(readRowId(id).id)
      }
    return ids
  }
}
