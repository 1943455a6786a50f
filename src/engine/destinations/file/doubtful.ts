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
 * Messages of an earlier run of which nobody knows whether their file was finished: before they go again it is looked for, so that
 * each is in one file. Only where ids are carried can that be told; what comes behind them waits, and all keep their order.
 */
export class Doubtful {
  private kept: ReadonlySet<string> | null = null
  private waiting: { m: Outgoing; fate: Fate }[] = []

  constructor(
    private readonly store: Store,
    private readonly tag: string,
    private readonly idColumn: string,
  ) {}

  /** It is being looked. */
  get looking(): boolean {
    return this.waiting.length > 0
  }

  /** Decides on a message, at once or when it has been looked; asked of each in their order. */
  settle(m: Outgoing, fate: Fate): void {
    const doubted = m.inDoubt && this.idColumn !== ''
    if (!this.looking && (!doubted || this.kept)) return this.decide(m, fate)
    this.waiting.push({ m, fate })
    if (this.waiting.length > 1) return
    this.idsFrom(m.ordinal).then(
      (ids) => {
        this.kept = ids
        // Whoever is sent meanwhile waits behind those that wait.
        for (let next = this.waiting[0]; next; next = this.waiting[0]) {
          this.decide(next.m, next.fate)
          this.waiting.shift()
        }
      },
      (e: unknown) => {
        for (const { fate: other } of this.waiting.splice(0)) other.unsure(e)
      },
    )
  }

  private decide(m: Outgoing, fate: Fate): void {
    if (m.inDoubt && this.kept?.has(m.id)) fate.has()
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
