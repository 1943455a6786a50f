import type { Publication } from '~/contract/publication'
import { kindOf } from '~/core/address/kinds'
import type { Joined } from '~/core/publication/joining'
import { type RegisteredSchema, withNumbers } from '~/core/publication/registered'
import { isFramed } from '~/core/shape/framed'
import { wholeOf } from '~/store/clauses'
import type { Db } from '~/store/database'
import { goLive } from '~/store/going-live'
import { publicationsWhere } from '~/store/publication'
import type { Cancel, Clock } from '../clock/clock'
import { failureOf } from '../failure'
import { log, wordsOf } from '../log'
import type { Frozen, Question } from './preview-desk'

/** Changes that come together are one: it is looked when nothing has changed for so long, ms. */
const SETTLES_MS = 3000
/** What could not be looked at is looked at again after this, ms. */
const AGAIN_MS = 30_000
/** So many names are told. */
const NAMES = 5

export interface JoiningOptions {
  db: Db
  clock: Clock
  /** Whether this engine is the one that writes. */
  mayKeep(): boolean
  /** Computes in a thread of its own. */
  ask(q: Question): Promise<string>
  register(publicationId: string): Promise<RegisteredSchema[]>
  event(id: string, name: string, severity: 'good' | 'note' | 'trouble', code: string, message: string, hint?: string): void
}

const names = (all: readonly string[]) => `${all.slice(0, NAMES).join(', ')}${all.length > NAMES ? ` and ${all.length - NAMES} more` : ''}`
const words = ({ joined, left }: Joined) =>
  [joined.length > 0 ? `${names(joined)} joined` : '', left.length > 0 ? `${names(left)} left` : ''].filter(Boolean).join(', ')

/** Equipment that comes to be as a rule says joins publications that take it by themselves: as a new version, by nobody's hand. */
export class Joining {
  private stopTimer: Cancel = () => undefined
  private looking: Promise<void> = Promise.resolve()
  private stopped = false
  /** What was told last of each that did not go. */
  private readonly told = new Map<string, string>()

  constructor(private readonly o: JoiningOptions) {}

  /** The plant, or a publication, is another one than before. */
  changed(inMs = SETTLES_MS): void {
    this.stopTimer()
    if (this.stopped) return
    this.stopTimer = this.o.clock.after(inMs, () => void this.look())
  }

  /** Looks at all that are live and take by themselves what is as their rule says. */
  look(): Promise<void> {
    this.looking = this.looking.then(async () => {
      try {
        const live = await publicationsWhere(this.o.db, (q) => q.where('state', '=', 'live').where('also_of', 'is', null))
        for (const p of live) if (p.rule?.joins && !this.stopped && this.o.mayKeep()) await this.one(p)
      } catch (e) {
        log('warn', 'publications', `looking for what joins: ${wordsOf(e)}; again in ${AGAIN_MS / 1000} s`)
        this.changed(AGAIN_MS)
      }
    })
    return this.looking
  }

  private async one(p: Publication): Promise<void> {
    const { o } = this
    const look = async (id: string) => JSON.parse(await o.ask({ kind: 'joining', publicationId: id })) as Joined
    const joined = await look(p.id)
    if (joined.joined.length === 0 && joined.left.length === 0) return void this.told.delete(p.id)
    const whole = (await wholeOf(o.db, p.id)).filter((c) => !c.off)
    if (whole.some((c) => c.editedSinceLive || c.liveVersion === null))
      return this.tell(p, 'note', `${words(joined)} by its rule, but not yet: it has edits that are not live`, 'Go live, or take the edits back')
    // What was changed besides goes out when somebody says so.
    const others = new Set(joined.others)
    for (const c of whole) if (c.id !== p.id) for (const name of (await look(c.id)).others) others.add(name)
    if (others.size > 0) {
      const message = `${words(joined)} by its rule, but not yet: ${names([...others])} would be sent otherwise than now`
      return this.tell(p, 'note', message, 'Look at its preflight, then go live')
    }
    try {
      const frozen = new Map<string, Frozen>()
      for (const c of whole) frozen.set(c.id, await this.frozen(c))
      const now = await goLive(
        o.db,
        p.id,
        'Embrik',
        async (c) => {
          const made = frozen.get(c.id)
          if (!made || made.version !== c.version) throw new Error('somebody changed it meanwhile')
          return made.body
        },
        { note: `By its rule: ${words(joined)}`, takeBack: kindOf(p.address).leaves.taken },
      )
      this.told.delete(p.id)
      o.event(p.id, p.name, 'good', 'publication.joined', `${words(joined)} by its rule: version ${now.liveVersion}`)
    } catch (e) {
      const failure = failureOf(e, 'publication')
      this.tell(p, 'trouble', `${words(joined)} by its rule, but cannot: ${failure.message}`, failure.hint)
    }
  }

  private async frozen(p: Publication): Promise<Frozen> {
    const registered = isFramed(p.shape) ? await this.o.register(p.id) : null
    const frozen = JSON.parse(await this.o.ask({ kind: 'frozen', publicationId: p.id })) as Frozen
    if (!registered) return frozen
    const body = withNumbers(frozen.body, registered)
    if (!body) throw new Error('a schema changed while it was registered')
    return { ...frozen, body }
  }

  /** Once, until it is another thing. */
  private tell(p: Publication, severity: 'note' | 'trouble', message: string, hint: string): void {
    if (this.told.get(p.id) === message) return
    this.told.set(p.id, message)
    this.o.event(p.id, p.name, severity, 'publication.joins-not', message, hint)
  }

  async stop(): Promise<void> {
    this.stopped = true
    this.stopTimer()
    await this.looking
  }
}
