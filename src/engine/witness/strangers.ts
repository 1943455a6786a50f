import type { Account } from '~/core/delivery/account'
import type { FarSighting } from '../destinations/far-end'
import type { TopicIndex } from './topics'

/**
 * So long an unknown payload waits at most for its message to be sent (again) before it counts as foreign, where there is no id, ms.
 * It waits only while something that was stored when it came has not gone out: a link that is down, a long backlog.
 */
const STRANGER_MS = 1_800_000

/** So many wait at most: who floods a place while it takes nothing from us would fill all memory. */
const MOST = 100_000

interface Stranger {
  s: FarSighting
  /** The accounts of its topic, and what each had stored when it came: once that is sent, it can be none of theirs. */
  before: [Account, number][]
}

/** What strangers turn out to be. */
export interface StrangerHooks {
  ours(account: Account, seq: number, s: FarSighting): void
  nobodys(s: FarSighting): void
}

/** Copies without an id, told apart by topic and payload. Those that belong to no message yet wait; nothing on their topic passes them. */
export class Strangers {
  private readonly waiting = new Map<string, Stranger[]>()
  private count = 0

  constructor(
    private readonly topics: TopicIndex,
    private readonly hooks: StrangerHooks,
  ) {}

  add(s: FarSighting): void {
    const list = this.waiting.get(s.topic)
    if (!list && this.match(s)) return
    // Among so many it is none of ours, as far as anybody can tell.
    if (this.count >= MOST) return this.hooks.nobodys(s)
    const stranger = { s, before: this.topics.accounts(s.topic).map((a): [Account, number] => [a, a.standing.storedThrough]) }
    if (!list && this.over(stranger, s.mono)) return this.hooks.nobodys(s)
    this.count++
    if (list) list.push(stranger)
    else this.waiting.set(s.topic, [stranger])
  }

  private over(one: Stranger, now: number): boolean {
    return one.before.every(([a, stored]) => a.wasSent(stored)) || now - one.s.mono > STRANGER_MS
  }

  private match(s: FarSighting): boolean {
    for (const account of this.topics.accounts(s.topic)) {
      const seq = s.digest === null ? null : account.find(s.topic, s.digest)
      if (seq === null) continue
      this.hooks.ours(account, seq, s)
      return true
    }
    return false
  }

  /** Tries again whose they are (`now` monotonic, ms). */
  settle(now: number): void {
    for (const [topic, list] of this.waiting) {
      let n = 0
      while (n < list.length) {
        const one = list[n]!
        if (!this.match(one.s)) {
          if (!this.over(one, now)) break
          this.hooks.nobodys(one.s)
        }
        n++
      }
      list.splice(0, n)
      this.count -= n
      if (list.length === 0) this.waiting.delete(topic)
    }
  }
}
