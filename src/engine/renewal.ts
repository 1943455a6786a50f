import { FailureError } from '~/contract/failure'
import { certificateFacts, readChain } from '~/core/credential/certificate'
import { pemOf } from '~/core/credential/intake/pem'
import { madeAs } from '~/core/credential/make/again'
import { dueAt } from '~/core/credential/make/due'
import { IssueError, issue } from '~/core/credential/make/issue'
import { listCredentials, type OpenCredential, openCredential } from '~/store/credential'
import type { Db } from '~/store/database'
import { listRenewed, type Renewed, renew } from '~/store/renewal'
import type { Vault } from '~/store/vault'
import type { Cancel, Clock } from './clock/clock'
import { log, wordsOf } from './log'

/** It is looked so often whether something is due, ms; the first time soon after a start. */
const LOOK_MS = 10 * 60_000
const FIRST_MS = 30_000
/** What does not work is told again after this, ms. */
const TELL_MS = 24 * 3_600_000

export interface RenewalOptions {
  db: Db
  vault: Vault
  clock: Clock
  /** Tries something in the place of what a credential holds with one that uses it; gives what went wrong, null: nothing. */
  tried(use: { kind: 'destination' | 'source'; id: string }, instead: { id: string; credential: OpenCredential }): Promise<string | null>
  event(severity: 'good' | 'warning' | 'trouble', subject: string, code: string, message: string, hint: string): void
}

/** Renews certificates that authorities of ours signed, ahead of their end: tried with all that use them first, the old one is kept. */
export class Renewal {
  private timers: Cancel[] = []
  /** One look at a time: who asks while one goes on gets a look of its own after it. */
  private looking: Promise<void> = Promise.resolve()
  /** When it was told last that one could not be renewed, monotonic ms. */
  private readonly told = new Map<string, number>()

  constructor(private readonly o: RenewalOptions) {}

  start(): void {
    this.timers = [this.o.clock.after(FIRST_MS, () => void this.look()), this.o.clock.every(LOOK_MS, () => void this.look())]
  }

  stop(): void {
    for (const cancel of this.timers.splice(0)) cancel()
  }

  /** Renews what is due, one after the other. */
  look(): Promise<void> {
    this.looking = this.looking.then(() => this.once())
    return this.looking
  }

  private async once(): Promise<void> {
    try {
      for (const one of await listRenewed(this.o.db)) if (dueAt(one.facts, one.days) <= this.o.clock.wall()) await this.renew(one)
    } catch (e) {
      log('warn', 'engine', `looking for certificates to renew: ${wordsOf(e)}; again in 10 min`)
    }
  }

  private async renew(one: Renewed): Promise<void> {
    try {
      const no = await this.attempt(one)
      if (no !== null) this.tell(one, no, 'Look what it says, or replace it by hand: until its end the old one is used')
    } catch (e) {
      const hint = e instanceof IssueError ? e.hint : e instanceof FailureError ? e.failure.hint : 'It is tried again in 10 min'
      this.tell(one, wordsOf(e), hint)
    }
  }

  private tell(one: Renewed, why: string, hint: string): void {
    const { clock, event } = this.o
    const last = this.told.get(one.id)
    if (last !== undefined && clock.mono() - last < TELL_MS) return
    this.told.set(one.id, clock.mono())
    event('trouble', one.name, 'renewal.failed', `could not be renewed: ${why}`, hint)
  }

  /** Null: it is renewed, or somebody was quicker. */
  private async attempt(one: Renewed): Promise<string | null> {
    const { db, vault, clock, event, tried } = this.o
    if (one.authorityId === null) return 'the authority that signed it is gone, or took it back'
    const authority = await openCredential(db, vault, one.authorityId)
    if (!authority.certificate || !authority.secret) return 'the key of the authority that signed it is not here any more'
    const { days, ...leaf } = madeAs(one.certificate)
    const now = clock.wall()
    const own = pemOf('CERTIFICATE', new Uint8Array(readChain(authority.certificate)[0]!.rawData))
    const { text, key, serial, notAfter } = await issue({ certificate: own, key: authority.secret }, leaf, { days, now })
    const credential = { kind: 'certificate' as const, certificate: text, user: null, secret: key }
    for (const use of (await listCredentials(db)).find((c) => c.id === one.id)?.usedBy ?? []) {
      const no = await tried(use, { id: one.id, credential })
      if (no !== null) return `${use.name} could not connect with the new one: ${no}`
    }
    const next = { ...credential, facts: await certificateFacts(text) }
    if (!(await renew(db, vault, one, next, { serial, notAfter, now }))) return null
    this.told.delete(one.id)
    event('good', one.name, 'renewal.done', `renewed until ${notAfter.toISOString().slice(0, 10)}`, 'The old one is kept until you remove it')
    return null
  }
}
