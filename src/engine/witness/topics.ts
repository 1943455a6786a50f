import type { Account } from '~/core/delivery/account'

/** Which accounts write to a topic at one destination. */
export class TopicIndex {
  private readonly byTopic = new Map<string, Account | Account[]>()

  add(topic: string, account: Account): void {
    const there = this.byTopic.get(topic)
    if (there === account) return
    if (there === undefined) this.byTopic.set(topic, account)
    else if (!Array.isArray(there)) this.byTopic.set(topic, [there, account])
    else if (!there.includes(account)) there.push(account)
  }

  accounts(topic: string): readonly Account[] {
    const there = this.byTopic.get(topic)
    return there === undefined ? [] : Array.isArray(there) ? there : [there]
  }
}
