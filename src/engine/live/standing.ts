import { readFileSync } from 'node:fs'
import { uptime } from 'node:os'
import type { Tag } from '~/contract/tag'
import { Status } from '~/core/value/quality'
import { fromWire } from '~/core/value/wire'
import type { Db } from '~/store/database'
import { type Held, loadHeld, saveHeld } from '~/store/held'
import { log, wordsOf } from '../log'
import type { LiveTable } from './table'

/** How often values that are to be held are written, ms: so old may be what is held after the engine was killed. */
export const HOLD_EVERY_MS = 2000

/** Tells one start of the machine from another. */
export function bootOf(): string {
  try {
    return readFileSync('/proc/sys/kernel/random/boot_id', 'utf8').trim()
  } catch {
    // Elsewhere: the minute in which the machine started.
    return `minute ${Math.round((Date.now() / 1000 - uptime()) / 60)}`
  }
}

/** What stands for a tag until its device speaks: its last value held from before, or its initial value. And the holding. */
export class Standing {
  private held = new Map<string, Held>()
  private saved = 0
  private timer: NodeJS.Timeout | null = null
  private saving: Promise<void> = Promise.resolve()

  constructor(
    private readonly db: Db,
    private readonly table: LiveTable,
    private readonly tags: () => Iterable<Tag>,
    private readonly boot = bootOf(),
  ) {}

  async load(): Promise<void> {
    this.held = new Map((await loadHeld(this.db)).map((h) => [h.tagId, h]))
    this.stand()
    this.saved = this.table.current
    this.timer = setInterval(() => this.save(), HOLD_EVERY_MS)
  }

  /** Gives all tags without a value the one that stands for it. */
  stand(): void {
    for (const t of this.tags()) {
      if (t.hold === 'nothing' && t.initial === null) continue
      const held = t.hold === 'nothing' ? undefined : this.held.get(t.id)
      if (held && (t.hold === 'machine' || held.boot === this.boot)) this.table.stand(t.handle, held.value, Status.lastUsable, held.at)
      else if (t.initial !== null) this.table.stand(t.handle, fromWire(t.initial), Status.initial, Date.now())
    }
  }

  private save(): void {
    this.saving = this.saving
      .then(() => this.write())
      .catch((e: unknown) => log('warn', 'database', `values to be held were not written: ${wordsOf(e)}`))
  }

  private async write(): Promise<void> {
    const { table } = this
    const upTo = table.current
    const rows: Held[] = []
    for (const t of this.tags()) {
      if (t.hold === 'nothing' || table.version[t.handle]! <= this.saved || table.seen[t.handle] === 0) continue
      const value = table.value[t.handle] ?? null
      if (value === null || table.status[t.handle]! >>> 30 === 2 || (typeof value === 'number' && !Number.isFinite(value))) continue
      rows.push({ tagId: t.id, value, at: table.time[t.handle]!, boot: this.boot })
    }
    if (rows.length > 0) await saveHeld(this.db, rows)
    for (const r of rows) this.held.set(r.tagId, r)
    this.saved = upTo
  }

  async stop(): Promise<void> {
    if (this.timer) clearInterval(this.timer)
    this.save()
    await this.saving
  }
}
