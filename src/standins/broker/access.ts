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

  mayPublish(user: User, topic: string): boolean {
    return user.publish.some((f) => topicMatches(f, topic))
  }

  maySubscribe(user: User, filter: string): boolean {
    return user.subscribe.some((f) => covers(f, filter))
  }
}
