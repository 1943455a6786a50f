import type { Dial, Wire, WireSink } from '~/engine/net/wire'
import type { Owner, Scheduler } from './scheduler'

/** What a link does just now. */
export interface Weather {
  /** ms each way. */
  latency: number
  /** Octets a second; null: as many as come. */
  bandwidth: number | null
  /** Octets into this direction vanish, and nobody is told. */
  deafUp: boolean
  deafDown: boolean
}

export const fair = (): Weather => ({ latency: 2, bandwidth: null, deafUp: false, deafDown: false })

/** The other end of a connection, as a server in the world sees it. */
export interface Peer {
  data(chunk: Uint8Array): void
  closed(): void
}

/** One end's way to the other. */
class Direction {
  private free = 0
  inFlight = 0

  constructor(
    private readonly link: Link,
    private readonly up: boolean,
  ) {}

  send(bytes: Uint8Array, arrive: (chunk: Uint8Array) => void): void {
    const { scheduler, weather } = this.link
    if (this.link.over || (this.up ? weather.deafUp : weather.deafDown)) return
    this.inFlight += bytes.length
    // Cut into two pieces somewhere: no reader may rely on how octets come.
    const cut = bytes.length > 1 ? 1 + Math.floor(this.link.random() * (bytes.length - 1)) : bytes.length
    for (const piece of [bytes.slice(0, cut), bytes.slice(cut)]) {
      if (piece.length === 0) continue
      const duration = weather.bandwidth === null ? 0 : (piece.length * 1000) / weather.bandwidth
      this.free = Math.max(this.free + 0.0001, scheduler.now + weather.latency * (0.5 + this.link.random())) + duration
      scheduler.at(this.free, () => {
        this.inFlight -= piece.length
        if (this.link.over || (this.up ? this.link.weather.deafUp : this.link.weather.deafDown)) return
        arrive(piece)
      })
    }
  }
}

/** Whether a PUBLISH is among packets that begin with the first octet (MQTT 5 2.1). */
export function holdsMessage(packets: Uint8Array): boolean {
  for (let at = 0; at < packets.length; ) {
    if (packets[at]! >>> 4 === 3) return true
    let length = 0
    let i = at + 1
    for (let shift = 0; ; shift += 7) {
      const b = packets[i++]!
      length += (b & 0x7f) << shift
      if ((b & 0x80) === 0) break
    }
    at = i + length
  }
  return false
}

/** One connection from a client to a server. */
export class Link {
  over = false
  /** Whether messages went out on it, and whether any was answered. */
  published = false
  answered = false
  /** The client has given it up: what still arrives it does not hear. */
  left = false
  readonly up = new Direction(this, true)
  readonly down = new Direction(this, false)
  sink!: WireSink
  peer!: Peer
  private backedUp = false

  constructor(
    readonly scheduler: Scheduler,
    readonly weather: Weather,
    readonly random: () => number,
    readonly client: string,
    private readonly owner: Owner,
    private readonly ended: () => void,
  ) {}

  /** Nothing more arrives over it. */
  get lost(): boolean {
    return this.over || !this.owner.alive || this.weather.deafDown
  }

  /** The client's side. */
  wire(): Wire {
    const link = this
    return {
      write: (bytes) => {
        link.up.send(bytes, (chunk) => {
          link.peer.data(chunk)
          if (link.backedUp && link.up.inFlight < 65_536) {
            link.backedUp = false
            if (link.owner.alive) link.sink.drained()
          }
        })
        if (link.up.inFlight > 1 << 20) link.backedUp = true
      },
      get pending() {
        return link.up.inFlight
      },
      end: () => {
        link.left = true
        link.scheduler.in(link.weather.latency, () => link.cut('ended'))
      },
      destroy: (why) => link.cut(why ?? Object.assign(new Error('destroyed'), { code: 'ECONNRESET' })),
    }
  }

  /** The server says something; `arrived` hears when the last octet of it is there. */
  reply(bytes: Uint8Array, arrived: () => void = () => undefined): void {
    let left = bytes.length
    this.down.send(bytes, (chunk) => {
      if (!this.owner.alive) return
      left -= chunk.length
      if (left === 0) arrived()
      this.sink.data(chunk)
    })
  }

  /** Ends it for both, with what is on the way lost. A direction that is deaf hears of it too: by a reset, sooner or later. */
  cut(why: unknown = Object.assign(new Error('reset'), { code: 'ECONNRESET' })): void {
    if (this.over) return
    this.over = true
    this.ended()
    this.scheduler.in(0, () => {
      if (this.owner.alive) this.sink.closed(why)
    })
    this.scheduler.in(this.weather.latency, () => this.peer.closed())
  }
}

/** As many messages may have gone out on the connections that ended so, in a world. */
const MOST_TRIED = 100

/** The network of a world. */
export class Net {
  readonly links = new Set<Link>()
  private readonly barren = new Map<string, { inARow: number; since: number | null }>()

  private barrenOf(client: string) {
    let b = this.barren.get(client)
    if (!b) this.barren.set(client, (b = { inARow: 0, since: null }))
    return b
  }

  /** Whether connections of a client ended twice in a row without an answer to any message, and few were answered since. */
  suspect(client: string): boolean {
    return this.barrenOf(client).since !== null
  }

  private ended(link: Link): void {
    if (!link.published || link.answered) return
    const b = this.barrenOf(link.client)
    if (++b.inARow >= 2) b.since = 0
  }

  /** A message was answered; `again`: with "not now", so that it is tried again. */
  answered(link: Link, again: boolean): void {
    if (link.left) return
    link.answered = true
    const b = this.barrenOf(link.client)
    b.inARow = 0
    if (b.since !== null && !again && ++b.since > MOST_TRIED) b.since = null
  }

  /** Nobody gets through before this moment. */
  shutUntil = 0
  /** For new links. */
  weather: () => Weather = fair

  constructor(
    private readonly scheduler: Scheduler,
    private readonly random: () => number,
    private readonly accept: (link: Link) => Peer | null,
  ) {}

  /** How a process of a world reaches servers. */
  dial<A extends { clientId: string }>(owner: Owner, wrote: (client: string, bytes: Uint8Array) => void): Dial<A> {
    return (address, sink) =>
      new Promise((done, failed) => {
        const link = new Link(this.scheduler, this.weather(), this.random, address.clientId, owner, () => this.ended(link))
        link.sink = sink
        this.scheduler.in(link.weather.latency * 2, () => {
          if (!owner.alive) return
          // It may have become fair while this was on its way.
          if (this.weather === fair) Object.assign(link.weather, fair())
          const peer = this.scheduler.now < this.shutUntil ? null : this.accept(link)
          if (!peer) {
            link.over = true
            failed(Object.assign(new Error('refused'), { code: 'ECONNREFUSED' }))
            return
          }
          link.peer = peer
          this.links.add(link)
          const wire = link.wire()
          const write = wire.write.bind(wire)
          wire.write = (bytes) => {
            wrote(address.clientId, bytes)
            link.published ||= holdsMessage(bytes)
            write(bytes)
          }
          done(wire)
        })
      })
  }

  cutAll(): void {
    for (const l of this.links) l.cut()
    this.links.clear()
  }

  /** The links of a process that died: the other side is told at once, or never. */
  orphan(owner: Owner, told: boolean): void {
    for (const l of this.links) {
      if ((l as unknown as { owner: Owner }).owner !== owner) continue
      if (told) l.cut()
      else l.weather.deafUp = l.weather.deafDown = true
    }
  }
}
