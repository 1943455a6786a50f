import { covers, topicMatches } from './topics'

export interface User {
  name: string
  /** Null: only by client certificate, whose common name is the user. */
  password: string | null
  publish: string[]
  subscribe: string[]
}

/** Who may publish and subscribe where. */
export class Access {
  private readonly users: Map<string, User>

  constructor(users: readonly User[]) {
    this.users = new Map(users.map((u) => [u.name, u]))
  }

  byCertificate(commonName: string): User | null {
    return this.users.get(commonName) ?? null
  }

  byPassword(name: string | undefined, password: string | undefined): User | null {
    const user = name === undefined ? undefined : this.users.get(name)
    return user && user.password !== null && user.password === password ? user : null
  }

  private readonly known = new Map<User, Map<string, boolean>>()

  mayPublish(user: User, topic: string): boolean {
    let topics = this.known.get(user)
    if (!topics || topics.size > 50_000) this.known.set(user, (topics = new Map()))
    let may = topics.get(topic)
    if (may === undefined) topics.set(topic, (may = user.publish.some((f) => topicMatches(f, topic))))
    return may
  }

  maySubscribe(user: User, filter: string): boolean {
    return user.subscribe.some((f) => covers(f, filter))
  }
}
