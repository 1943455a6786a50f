import type { StoreTrouble } from '~/core/delivery/delivery-store'
import type { Cancel, Clock } from './clock/clock'
import type { Events } from './events'

const words: Record<StoreTrouble, [code: string, message: string, hint: string]> = {
  away: ['database.away', 'The database is away', 'Start it again, or mend the way to it'],
  silent: ['database.silent', 'The database is there but does not answer', 'It may be stopped, overloaded or locked: look at it on its machine'],
  full: ['database.full', 'The disk of the database is full', 'Free some space there; Embrik goes on by itself'],
  failed: ['database.failed', 'The database refuses to store', 'Look at its log'],
}

/** Troubles closer together than this are one. */
const EPISODE_MS = 3000

/**
 * Whether what happens can be stored, as all who store report it: told once when it begins, again when its cause turns out to
 * be another, and once when it is over, with what it cost.
 */
export class StoreState {
  private kind: StoreTrouble | null = null
  private since = 0
  private readonly troubled = new Map<string, { lost: number }>()
  private lost = 0
  private ending: Cancel | null = null

  constructor(
    private readonly events: Events,
    private readonly clock: Clock,
  ) {}

  /** Null: all is stored. */
  get trouble(): { kind: StoreTrouble; message: string; hint: string; since: number } | null {
    if (this.kind === null) return null
    const [, message, hint] = words[this.kind]
    return { kind: this.kind, message, hint, since: this.since }
  }

  /** `who` cannot store; `lost` messages of it were pushed out of memory so far. */
  report(who: string, kind: StoreTrouble, detail: string, lost = 0): void {
    this.ending?.()
    this.ending = null
    this.troubled.set(who, { lost })
    if (this.kind === kind) return
    const fresh = this.kind === null
    if (fresh) {
      this.since = this.clock.wall()
      this.lost = 0
    }
    this.kind = kind
    const [code, message, hint] = words[kind]
    this.events.add({
      severity: 'trouble',
      where: 'database',
      subjectId: null,
      subject: 'Database',
      code,
      message: `${message}: messages wait in memory, up to 50,000 a destination (${detail.slice(0, 120)})`,
      hint,
    })
  }

  /** `who` stores again. */
  well(who: string): void {
    const was = this.troubled.get(who)
    if (!was) return
    this.troubled.delete(who)
    this.lost += was.lost
    if (this.troubled.size > 0) return
    this.ending?.()
    this.ending = this.clock.after(EPISODE_MS, () => this.over())
  }

  private over(): void {
    this.ending = null
    this.kind = null
    const seconds = Math.max(1, Math.round((this.clock.wall() - this.since) / 1000))
    const lost = this.lost > 0 ? `; ${this.lost} messages were pushed out of memory meanwhile` : '; nothing was lost'
    this.events.add({
      severity: this.lost > 0 ? 'trouble' : 'good',
      where: 'database',
      subjectId: null,
      subject: 'Database',
      code: 'database.stores',
      message: `The database stores again, after ${seconds} s${lost}`,
      hint: '',
    })
  }
}
