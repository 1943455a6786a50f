import type { Account } from '~/core/delivery/account'

/** So many topics are remembered; with values or times in them there may be new ones for ever. */
const TOPICS_MAX = 500_000

/** Which accounts write to a topic at one destination. The longest known are forgotten first; whatever is sent is known again. */
export class TopicIndex {
  constructor(private readonly most = TOPICS_MAX) {}

  private readonly byTopic = new Map<string, Account | Account[]>()
  private readonly accountsThere = new Set<Account>()

  /** Whether an account ever wrote to any topic. */
  has(account: Account): boolean {
    return this.accountsThere.has(account)
  }

  add(topic: string, account: Account): void {
    const there = this.byTopic.get(topic)
    if (there === account) return
    this.accountsThere.add(account)
    if (there === undefined) {
      if (this.byTopic.size >= this.most) this.forget(Math.ceil(this.most / 10))
      this.byTopic.set(topic, account)
    } else if (!Array.isArray(there)) this.byTopic.set(topic, [there, account])
    else if (!there.includes(account)) there.push(account)
  }

  private forget(count: number): void {
    for (const topic of this.byTopic.keys()) {
      if (count-- <= 0) return
      this.byTopic.delete(topic)
    }
  }

  accounts(topic: string): readonly Account[] {
    const there = this.byTopic.get(topic)
    return there === undefined ? [] : Array.isArray(there) ? there : [there]
  }
}
