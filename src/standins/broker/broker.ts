import type { IncomingHttpHeaders, IncomingMessage } from 'node:http'
import { createServer as createTcp, type Server, type Socket } from 'node:net'
import type { Duplex } from 'node:stream'
import { createServer as createTls } from 'node:tls'
import { Access, type User } from './access'
import { Connection } from './connection'
import { type BrokerFaults, Faults, noFaults } from './faults'
import type { Message } from './message'
import { Session, type Subscription } from './session'
import { topicMatches } from './topics'
import { type Arrival, type Copy, Truth } from './truth'
import { webServer } from './web'

export interface BrokerPorts {
  plain?: number
  tls?: number
  mutual?: number
  /** For WebSockets, at /mqtt. */
  web?: number
  webTls?: number
}

/** Who somebody is; a reason code (MQTT 5 3.2.2.2): nobody who is let in. */
export type LogIn = (o: { user: string | null; password: string | null; clientId: string }) => User | number

/** What is said to a message that is not taken (MQTT 5 2.4); `end`: and the connection is ended by it. */
export interface Refusal {
  reason: number
  end: boolean
}

/** Rules of a house of its own, beside users and permissions. */
export interface BrokerRules {
  logIn?: LogIn
  /** Who comes by a certificate that the authority signed. */
  certificate?(o: { name: string; sha256: string; clientId: string }): User | number
  /** Why a message is not taken; null: it is. `size`: octets of its payload. */
  refuses?(message: Message, size: number): Refusal | null
  taken?(message: Message): void
  /** A client is gone. */
  left?(clientId: string): void
}

export interface BrokerOptions {
  ports: BrokerPorts
  host: string
  ca: string
  certificate: string
  key: string
  users: readonly User[]
  /** The log keeps so many messages and so many deliveries. */
  logLimit?: number
  /** Says who logs in, instead of the users' passwords. */
  logIn?: LogIn
  rules?: BrokerRules
  /** What the log takes to tell messages apart; unless given, the user property `embrik-id`. */
  keyOf?: (m: Message) => string | null
}

/** A reordered delivery that nothing passes goes out after so long, ms. */
const HELD_AT_MOST = 500

export type Door = 'plain' | 'tls' | 'mutual'

/** MQTT 5 2.4. */
const BAD_CREDENTIALS = 0x86

/** The site broker: MQTT 3.1.1 and 5 on a plain port, a TLS port, and one that wants a client certificate of the works. */
export class Broker {
  readonly access: Access
  readonly sessions = new Map<string, Session>()
  readonly connections = new Set<Connection>()
  private readonly retained = new Map<string, Message>()
  private readonly sockets = new Set<Socket>()
  private readonly servers: Server[] = []
  private routes = new Map<string, { session: Session; subscription: Subscription }[]>()
  private readonly turns = new Map<string, number>()
  private shutUntil = 0
  private readonly held = new Map<Session, { after: number; go: () => void }[]>()
  readonly faults = new Faults()
  readonly truth: Truth
  /** What was said with each request for a WebSocket. */
  readonly webRequests: IncomingHttpHeaders[] = []
  /** How often a client has greeted. */
  greeted = 0
  published = 0
  delivered = 0
  /** How often a client has asked for messages, answered or not yet. */
  asked = 0

  private constructor(private readonly options: BrokerOptions) {
    this.truth = new Truth(options.logLimit ?? 100_000, options.keyOf ?? idProperty)
    this.access = new Access(options.users)
  }

  static async start(options: BrokerOptions): Promise<Broker> {
    const broker = new Broker(options)
    const { ca, certificate: cert, key, ports } = options
    const tls = { cert, key, noDelay: true, minVersion: 'TLSv1.2' as const }
    const plain = createTcp({ noDelay: true }, (s) => broker.accept(s, 'plain'))
    if (ports.plain) await broker.listen(plain, ports.plain)
    const secure = createTls(tls, (s) => broker.accept(s, 'tls'))
    if (ports.tls) await broker.listen(secure, ports.tls)
    // The handshake is let through and the certificate looked at afterwards, so that CONNACK can say why.
    const mutual = createTls({ ...tls, ca, requestCert: true, rejectUnauthorized: false }, (s) => broker.accept(s, 'mutual'))
    if (ports.mutual) await broker.listen(mutual, ports.mutual)
    const overWeb = (door: Door) => (stream: Duplex, request: IncomingMessage) => {
      broker.webRequests.push(request.headers)
      broker.accept(stream, door)
    }
    if (ports.web) await broker.listen(webServer(null, overWeb('plain')), ports.web)
    if (ports.webTls) await broker.listen(webServer({ cert, key }, overWeb('tls')), ports.webTls)
    return broker
  }

  private listen(server: Server, port: number): Promise<void> {
    this.servers.push(server)
    server.on('connection', (socket: Socket) => {
      if (this.isShut()) {
        socket.resetAndDestroy()
        return
      }
      this.sockets.add(socket)
      socket.on('close', () => this.sockets.delete(socket))
    })
    server.on('tlsClientError', () => undefined)
    return new Promise((done, failed) => {
      server.once('error', failed)
      server.listen(port, this.options.host, () => done())
    })
  }

  private accept(socket: Duplex, door: Door): void {
    new Connection(this, socket, door)
  }

  get rules(): BrokerRules {
    return this.options.rules ?? {}
  }

  /** Ends the connection of one client, with a reason. */
  endClient(clientId: string, reason: number): void {
    for (const c of this.connections) if (c.session?.clientId === clientId) c.end(reason)
  }

  /** Where clients are sent, as they greet (MQTT 5 4.11); null: nowhere. */
  elsewhere: { reference: string; moved: boolean } | null = null

  /** Sends all that are connected elsewhere, and those that come. */
  sendElsewhere(reference: string, moved: boolean): void {
    this.elsewhere = { reference, moved }
    for (const c of this.connections) c.sendElsewhere(this.elsewhere)
  }

  /** Who somebody is, by user and password. */
  logIn: LogIn = (o) =>
    this.rules.logIn?.(o) ?? this.options.logIn?.(o) ?? this.access.byPassword(o.user ?? undefined, o.password ?? undefined) ?? BAD_CREDENTIALS

  isShut(): boolean {
    return Date.now() < this.shutUntil
  }

  /** Resets every connection and refuses new ones for so many seconds; sessions live on. */
  cut(seconds: number): void {
    this.shutUntil = Date.now() + seconds * 1000
    for (const s of this.sockets) s.resetAndDestroy()
  }

  /** Opens a session for a client, ending an older connection with the same client id (MQTT 5 3.1.4). */
  open(clientId: string, clean: boolean): { session: Session; present: boolean } {
    for (const c of this.connections) if (c.session?.clientId === clientId) c.takenOver()
    let session = this.sessions.get(clientId)
    const present = session !== undefined && !clean
    if (!session || clean) {
      session = new Session(clientId)
      this.sessions.set(clientId, session)
      this.routes = new Map()
    }
    if (session.expiryTimer) clearTimeout(session.expiryTimer)
    session.expiryTimer = null
    return { session, present }
  }

  /** The connection of a session is gone: it goes too, now or when its expiry has passed. */
  leave(session: Session): void {
    session.line = null
    if (this.sessions.get(session.clientId) !== session) return
    const end = () => {
      if (this.sessions.get(session.clientId) === session) this.sessions.delete(session.clientId)
      this.routes = new Map()
    }
    if (session.expiry === 0) end()
    else if (session.expiry !== 0xffffffff) session.expiryTimer = setTimeout(end, Math.min(session.expiry * 1000, 0x7fffffff)).unref()
  }

  subscribe(session: Session, key: string, s: Subscription): void {
    session.subscriptions.set(key, s)
    this.routes = new Map()
  }

  unsubscribe(session: Session, key: string): boolean {
    this.routes = new Map()
    return session.subscriptions.delete(key)
  }

  /** Retained messages that a new subscription gets. */
  retainedFor(filter: string): Message[] {
    const now = Date.now()
    return [...this.retained.values()].filter((m) => topicMatches(filter, m.topic) && (m.expires === null || m.expires > now))
  }

  /** What its sessions are now, to come back with. */
  remember(): Map<string, Session> {
    return new Map([...this.sessions].map(([id, s]) => [id, s.copied()]))
  }

  /** Ends all connections, as if killed, and comes back at once with what it had then. */
  comeBackWith(sessions: Map<string, Session>): void {
    for (const c of this.connections) c.session = null
    for (const s of this.sockets) s.resetAndDestroy()
    this.sessions.clear()
    for (const [id, s] of sessions) this.sessions.set(id, s)
    this.routes = new Map()
  }

  /** From now on these things go wrong, and no others; null: nothing does. */
  setFaults(faults: BrokerFaults | null): void {
    this.faults.set(faults ?? noFaults)
    for (const list of this.held.values()) for (const h of list.splice(0)) h.go()
  }

  publish(message: Message): Arrival | null {
    this.published++
    const arrival = this.truth.arrived(message)
    if (message.retain) {
      if (message.payload.length === 0) this.retained.delete(message.topic)
      else this.retained.set(message.topic, message)
    }
    const groups = new Map<string, { session: Session; subscription: Subscription }[]>()
    const bySession = new Map<Session, Subscription[]>()
    for (const r of this.route(message.topic)) {
      if (r.subscription.share !== null) {
        const key = `${r.subscription.share} ${r.subscription.filter}`
        groups.set(key, [...(groups.get(key) ?? []), r])
      } else if (!(r.subscription.noLocal && r.session.clientId === message.from))
        bySession.set(r.session, [...(bySession.get(r.session) ?? []), r.subscription])
    }
    for (const [session, subs] of bySession) this.hand(session, subs, message, arrival)
    for (const [key, members] of groups) {
      const there = members.filter((m) => m.session.line !== null)
      const pool = there.length > 0 ? there : members
      const turn = (this.turns.get(key) ?? 0) % pool.length
      this.turns.set(key, turn + 1)
      const one = pool[turn]!
      this.hand(one.session, [one.subscription], message, arrival)
    }
    return arrival
  }

  private hand(session: Session, subs: Subscription[], message: Message, arrival: Arrival | null): void {
    const qos = Math.min(message.qos, Math.max(...subs.map((s) => s.qos))) as 0 | 1 | 2
    const ids = subs.flatMap((s) => (s.id === null ? [] : [s.id]))
    const retain = message.retain && subs.some((s) => s.keepRetain)
    const { clientId } = session
    const fate = this.faults.fate(clientId)
    const log = () => this.truth.copy(arrival, clientId, fate)
    const { exchangeDots, hollowFilter } = this.faults.settings
    if (hollowFilter !== '' && subs.every((s) => s.filter.includes(hollowFilter))) {
      this.truth.copy(arrival, clientId, 'dropped')
      return
    }
    const topic = exchangeDots ? exchanged(message.topic) : message.topic
    const go = (copy: Copy | null, m = exchangeDots ? { ...message, topic } : message) => {
      this.delivered++
      session.deliver(m, qos, retain, ids, copy)
    }
    switch (fate) {
      case 'dropped':
        log()
        return
      case 'doubled':
        go(log())
        go(log())
        break
      case 'delayed':
        setTimeout(() => go(log()), this.faults.settings.delayMs)
        return
      case 'reordered':
        this.hold(session, () => go(log()))
        return
      case 'altered':
        go(log(), { ...message, payload: this.faults.altered(message.payload) })
        break
      default:
        go(log())
    }
    this.passed(session)
  }

  /** Keeps a delivery back until a few later ones have passed it. */
  private hold(session: Session, go: () => void): void {
    const held = { after: this.faults.passing(), go }
    const list = this.held.get(session) ?? []
    this.held.set(session, list)
    list.push(held)
    setTimeout(() => {
      const i = list.indexOf(held)
      if (i < 0) return
      list.splice(i, 1)
      go()
    }, HELD_AT_MOST)
  }

  private passed(session: Session): void {
    const list = this.held.get(session)
    if (!list || list.length === 0) return
    for (const h of [...list]) {
      if (--h.after > 0) continue
      list.splice(list.indexOf(h), 1)
      h.go()
    }
  }

  private route(topic: string) {
    let route = this.routes.get(topic)
    if (!route) {
      route = []
      for (const session of this.sessions.values())
        for (const subscription of session.subscriptions.values()) if (topicMatches(subscription.filter, topic)) route.push({ session, subscription })
      if (this.routes.size > 50_000) this.routes.clear()
      this.routes.set(topic, route)
    }
    return route
  }

  async stop(): Promise<void> {
    for (const s of this.sockets) s.destroy()
    for (const s of this.sessions.values()) if (s.expiryTimer) clearTimeout(s.expiryTimer)
    await Promise.all(this.servers.map((s) => new Promise<void>((done) => s.close(() => done()))))
  }
}

/** `a/b.c` is `a.b/c`. */
const exchanged = (topic: string) => topic.replace(/[./]/g, (c) => (c === '.' ? '/' : '.'))

function idProperty(m: Message): string | null {
  const id = m.properties.userProperties?.['embrik-id']
  return (Array.isArray(id) ? id[0] : id) ?? null
}
