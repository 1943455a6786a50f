import type { Socket } from 'node:dgram'
import { type DatagramSettings, datagramPlace } from '~/contract/destinations/datagram'
import type { Failure } from '~/contract/failure'
import type { Envelope } from '~/core/delivery/envelope'
import type { Clock } from '../../clock/clock'
import type { Answer, DestinationConnection, DestinationSink, Outgoing } from '../driver'
import { meaningOf } from './answers'
import { Pace } from './pace'
import { type Interface, interfaceOf, sending, spotOf } from './sockets'

/** A machine where nobody listens says so within this, in the same building, ms. */
const GRACE_MS = 25
/** More places than these share a socket, which is not told that nobody listens. */
const OWN_SOCKETS = 200
/** A name that is not found within this is not known just now, ms. */
const NAME_MS = 3000
/** Names are asked for anew after so long, ms. */
const NAMES_MS = 60_000

interface UnderWay {
  answer(a: Answer): void
  /** Monotonic ms; null: the machine has not taken it yet. */
  takenAt: number | null
}

/** How one place is reached. */
interface Way {
  place: string
  socket: Socket | null
  /** Where the socket is not tied to it. */
  to: { address: string; port: number } | null
  madeAt: number
  /** Why nothing can be sent there now: told to the next message. */
  trouble: { answer: Answer } | null
  underWay: UnderWay[]
}

const octetsOf = (payload: string | Uint8Array) => (typeof payload === 'string' ? Buffer.from(payload) : payload)

/** Sends each message as one datagram, not faster than is set. */
export class DatagramSender implements DestinationConnection {
  readonly window: number
  private readonly ways = new Map<string, Way>()
  private readonly shared = new Map<string, Promise<Socket>>()
  private readonly pace: Pace
  private sockets = 0
  private pending = 0
  private closed = false
  private graceOver: (() => void) | null = null
  private idle: (() => void)[] = []

  private constructor(
    private readonly s: DatagramSettings,
    private readonly via: Interface | null,
    private readonly sink: DestinationSink,
    private readonly clock: Clock,
  ) {
    this.window = s.window
    this.pace = new Pace(s.perSecond, clock, () => sink.ready())
  }

  /** Begins when the network interface is there. */
  static begin(s: DatagramSettings, sink: DestinationSink, clock: Clock): DatagramSender {
    return new DatagramSender(s, interfaceOf(s.from), sink, clock)
  }

  unfit({ envelope: e }: Outgoing): Failure | null {
    const size = octetsOf(e.payload).length
    const no = (code: string, why: string, hint: string): Failure => ({
      code: `datagram.${code}`,
      message: `A message to ${e.topic.slice(0, 200)} was not sent: ${why}`,
      hint,
      where: 'destination',
    })
    if (!datagramPlace(e.topic)) return no('place', 'that is no group or host with a port', 'Correct the address of the publication')
    if (size > this.s.mostOctets)
      return no(
        'size',
        `it has ${size} octets, a datagram there ${this.s.mostOctets} at most`,
        'Send one message for each equipment, or fewer members; a larger limit has the network send it in pieces',
      )
    return null
  }

  ready(_ordinal: number, { topic }: Envelope): boolean {
    const way = this.ways.get(topic)
    if (way && (way.socket || way.trouble)) return this.pace.ready()
    if (!way) void this.make(topic)
    return false
  }

  /** Finds the way to a place; whether there is one, the next message there hears. */
  private async make(place: string): Promise<void> {
    const way: Way = { place, socket: null, to: null, madeAt: this.clock.mono(), trouble: null, underWay: [] }
    this.ways.set(place, way)
    try {
      const spot = await this.inTime(spotOf(place))
      const own = !spot.group && this.sockets < OWN_SOCKETS
      if (own) {
        way.socket = await sending(spot, this.via, this.s.hops, true)
        this.sockets++
        way.socket.on('error', (e) => this.refusedAt(way, e))
        if (this.closed) way.socket.close()
      } else {
        way.to = { address: spot.address, port: spot.port }
        way.socket = await this.sharedBy(`${spot.version} ${spot.group}`, () => sending(spot, this.via, this.s.hops, false))
      }
    } catch (e) {
      this.troubled(way, e)
    }
    if (!this.closed) this.sink.ready()
  }

  /** Name servers that are away let one wait for a minute: meanwhile nothing would go anywhere. */
  private inTime<T>(found: Promise<T>): Promise<T> {
    return new Promise<T>((done, failed) => {
      const tooLong = this.clock.after(NAME_MS, () => failed(Object.assign(new Error('no answer'), { code: 'EAI_AGAIN' })))
      found.then(done, failed).finally(tooLong)
    })
  }

  private sharedBy(which: string, make: () => Promise<Socket>): Promise<Socket> {
    const there = this.shared.get(which)
    if (there) return there
    const made = make().then((socket) => {
      socket.on('error', () => undefined)
      if (this.closed) socket.close()
      return socket
    })
    made.catch(() => this.shared.delete(which))
    this.shared.set(which, made)
    return made
  }

  send(m: Outgoing, answer: (a: Answer) => void): void {
    const { topic, payload } = m.envelope
    const way = this.ways.get(topic)
    if (!way?.socket || way.trouble) {
      const why = way?.trouble?.answer ?? ({ kind: 'later', failure: gone, place: true } as const)
      if (way) this.renew(way)
      return answer(why)
    }
    this.pace.take()
    const one: UnderWay = { answer, takenAt: null }
    way.underWay.push(one)
    this.pending++
    const done = (e: Error | null) => (e ? this.failed(way, one, e) : this.taken(way, one))
    if (way.to) way.socket.send(octetsOf(payload), way.to.port, way.to.address, done)
    else way.socket.send(octetsOf(payload), done)
  }

  /** The machine has taken it: to a group that is all that can be known. */
  private taken(way: Way, one: UnderWay): void {
    const now = this.clock.mono()
    one.takenAt = now
    if (way.to) {
      this.end(way, one, { kind: 'sent' })
      if (now - way.madeAt > NAMES_MS && way.underWay.length === 0) this.renew(way)
      return
    }
    this.waitGrace()
  }

  /** A machine that is busy hears late what it was told long ago: that comes first. */
  private waitGrace(): void {
    this.graceOver ??= this.clock.after(GRACE_MS, () => {
      // Between two timers the loop hears of its sockets.
      this.graceOver = this.clock.after(1, () => {
        this.graceOver = null
        this.pass()
      })
    })
  }

  /** What nobody has refused in time is on its way. */
  private pass(): void {
    const now = this.clock.mono()
    let more = false
    for (const way of this.ways.values()) {
      for (const one of [...way.underWay]) if (one.takenAt !== null && now - one.takenAt >= GRACE_MS - 1) this.end(way, one, { kind: 'sent' })
      more ||= way.underWay.some((one) => one.takenAt !== null && way.to === null)
      if (way.to === null && way.underWay.length === 0 && now - way.madeAt > NAMES_MS) this.renew(way)
    }
    if (more && !this.closed) this.waitGrace()
  }

  private end(way: Way, one: UnderWay, a: Answer): void {
    const at = way.underWay.indexOf(one)
    if (at < 0) return
    way.underWay.splice(at, 1)
    this.pending--
    one.answer(a)
    if (this.pending === 0) for (const done of this.idle.splice(0)) done()
  }

  private failed(way: Way, one: UnderWay, e: unknown): void {
    if (this.closed) return
    const { meaning, failure } = meaningOf(e, way.place)
    if (meaning === 'refused') return this.end(way, one, { kind: 'refused', failure })
    if (meaning === 'lost') return this.sink.down(failure)
    this.end(way, one, { kind: 'later', failure, ...(meaning === 'later' && { place: true }) })
  }

  /** Somebody there said that nobody listens: what went just now was lost, and goes again. */
  private refusedAt(way: Way, e: unknown): void {
    if (this.closed) return
    const { failure } = meaningOf(e, way.place)
    const lost = [...way.underWay]
    if (lost.length === 0) way.trouble = { answer: { kind: 'later', failure, place: true } }
    for (const one of lost) this.end(way, one, { kind: 'later', failure, place: true })
  }

  private troubled(way: Way, e: unknown): void {
    const { meaning, failure } = meaningOf(e, way.place)
    if (meaning === 'lost' && !this.closed) return this.sink.down(failure)
    way.trouble = { answer: { kind: 'later', failure, ...(meaning !== 'all later' && { place: true }) } }
  }

  /** It is found anew with the next message. */
  private renew(way: Way): void {
    if (this.ways.get(way.place) === way) this.ways.delete(way.place)
    if (way.to || !way.socket) return
    this.sockets--
    way.socket.close()
  }

  heard(): Promise<void> {
    return this.pending === 0 || this.closed ? Promise.resolve() : new Promise((done) => this.idle.push(done))
  }

  close(): void {
    if (this.closed) return
    // What the machine has taken is on its way, whoever closes here.
    for (const way of this.ways.values()) for (const one of [...way.underWay]) if (one.takenAt !== null) this.end(way, one, { kind: 'sent' })
    this.closed = true
    this.pace.stop()
    this.graceOver?.()
    for (const way of this.ways.values()) if (way.to === null) way.socket?.close()
    for (const socket of this.shared.values()) socket.then((s) => s.close()).catch(() => undefined)
    for (const done of this.idle.splice(0)) done()
  }
}

const gone: Failure = {
  code: 'datagram.place',
  message: 'The way there is looked for anew',
  hint: 'Embrik tries again',
  where: 'destination',
}
