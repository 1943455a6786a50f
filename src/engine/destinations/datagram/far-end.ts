import type { Socket } from 'node:dgram'
import { networkInterfaces } from 'node:os'
import { type DatagramSettings, datagramPlace, placeWritten, relaysOf } from '~/contract/destinations/datagram'
import { type Failure, fail } from '~/contract/failure'
import type { WitnessView } from '~/core/delivery/account'
import { digest } from '~/core/delivery/digest'
import { type Cancel, type Clock, sleep } from '../../clock/clock'
import type { FarEnd, FarSink } from '../far-end'
import { meaningOf } from './answers'
import { heldFor } from './kernel'
import { isProbe } from './probe'
import { type Interface, interfaceOf, listening, spotOf } from './sockets'

/** It is looked so often whether the machine threw something away, ms. */
const LOOK_MS = 1000
/** While something waits to be read it is looked again after, ms. */
const AGAIN_MS = 50
/** Groups that could not be joined are tried again after, ms. */
const JOIN_MS = 5000

interface Ear {
  socket: Socket
  port: number
  /** Since when nothing that comes can pass unseen, monotonic ms. */
  since: number
}

/** Where a witness hears what is sent to a place; null: nobody but its receiver does. */
export function heardAt(place: string, relays: string): string | null {
  const read = datagramPlace(place)
  if (!read) return null
  return relaysOf(relays)?.get(placeWritten(read)) ?? (read.group ? placeWritten(read) : null)
}

/**
 * Joins the groups to which datagrams go, and hears what comes. Nothing is kept for it anywhere: what came while it was away is
 * gone, and so is what the machine had to throw away because it was not read fast enough, which Linux tells.
 */
export class DatagramFarEnd implements FarEnd {
  private wanted: readonly string[] = []
  private readonly ears = new Map<string, Ear>()
  private readonly refused = new Map<string, string>()
  private connectedAt: number | null = null
  private via: Interface | null = null
  private clearAt = Number.NEGATIVE_INFINITY
  /** So many were thrown away, by socket. */
  private dropped: ReadonlyMap<string, number> = new Map()
  private looking: Promise<void> | null = null
  private timers: Cancel[] = []
  private again: Cancel = () => undefined
  private joining: Promise<void> = Promise.resolve()

  constructor(
    private readonly s: DatagramSettings,
    private readonly sink: FarSink,
    private readonly clock: Clock,
  ) {}

  restore(): void {
    // What an earlier run did not hear nobody has kept.
  }

  position(): null {
    return null
  }

  prepare(): void {
    // Nothing changes elsewhere because somebody listens.
  }

  async connect(): Promise<void> {
    this.via = this.interface()
    const at = this.clock.mono()
    this.connectedAt = at
    await this.join()
    // It may have been closed meanwhile.
    if (this.connectedAt !== at) return
    this.timers = [this.clock.every(LOOK_MS, () => this.look()), this.clock.every(JOIN_MS, () => void (this.refused.size > 0 && this.join()))]
    this.look()
  }

  private interface(): Interface | null {
    try {
      return interfaceOf(this.s.witnessFrom || this.s.from)
    } catch (e) {
      const { failure } = meaningOf(e, '', 'witness')
      throw fail(502, failure.code, failure.message, failure.hint, 'witness')
    }
  }

  async watch(filters: readonly string[]): Promise<void> {
    this.wanted = [...filters]
    if (this.connectedAt !== null) await this.join()
  }

  release(needed: readonly string[]): void {
    for (const place of [...this.ears.keys()]) if (!this.wanted.includes(place) && !needed.includes(place)) this.leave(place)
  }

  private leave(place: string): void {
    this.ears.get(place)?.socket.close()
    this.ears.delete(place)
  }

  /** Joins what is wanted and not joined yet; one after the other. */
  private join(): Promise<void> {
    this.joining = this.joining.then(() => this.joinNow())
    return this.joining
  }

  private async joinNow(): Promise<void> {
    const at = this.connectedAt
    const before = [...this.refused].join()
    for (const place of [...this.refused.keys()]) if (!this.wanted.includes(place)) this.refused.delete(place)
    for (const place of this.wanted) {
      if (this.connectedAt !== at || at === null) return
      if (this.ears.has(place)) continue
      const why = await this.hear(place, at)
      if (why === null) this.refused.delete(place)
      else this.refused.set(place, why)
    }
    if ([...this.refused].join() !== before) this.sink.refused(this.refused)
  }

  /** Begins to hear what goes to a place; gives why it cannot. */
  private async hear(place: string, at: number): Promise<string | null> {
    const where = heardAt(place, this.s.relays)
    if (where === null) return 'it goes to one machine, and nobody else gets it; a group, or something that hands it on, would'
    try {
      const socket = await listening(await spotOf(where), this.via)
      // It may have been closed meanwhile.
      if (this.connectedAt !== at) {
        socket.close()
        return null
      }
      socket.on('error', (e) => this.lost(meaningOf(e, place, 'witness').failure))
      socket.on('message', (octets) => this.came(place, octets))
      this.ears.set(place, { socket, port: datagramPlace(where)!.port, since: this.clock.mono() })
      return null
    } catch (e) {
      return meaningOf(e, where, 'witness').failure.message
    }
  }

  private came(place: string, octets: Buffer): void {
    if (isProbe(octets)) return
    this.sink.sighting({
      id: null,
      topic: place,
      digest: digest(octets),
      at: this.clock.wall(),
      mono: this.clock.mono(),
      repeated: false,
      held: false,
      comesAgain: false,
      token: null,
    })
  }

  private look(): void {
    this.looking ??= this.lookNow().finally(() => {
      this.looking = null
    })
  }

  private async lookNow(): Promise<void> {
    const began = this.clock.mono()
    const at = this.connectedAt
    if (this.via && !Object.hasOwn(networkInterfaces(), this.via.name))
      return this.lost({
        code: 'datagram.interface',
        message: `The network interface ${this.via.name} is gone`,
        hint: 'Bring it back, or name another one',
        where: 'witness',
      })
    const held = await heldFor(new Set([...this.ears.values()].map((e) => e.port)))
    if (at === null || this.connectedAt !== at) return
    // A machine that does not tell what waits: what came before this turn has been read by now.
    if (held === null || held.waiting === 0) this.clearAt = began
    else {
      this.again()
      this.again = this.clock.after(AGAIN_MS, () => this.look())
    }
    if (held === null) return
    const lost = [...held.dropped].reduce((n, [socket, dropped]) => n + Math.max(0, dropped - (this.dropped.get(socket) ?? 0)), 0)
    if (lost > 0) this.overran(lost)
    this.dropped = held.dropped
  }

  private overran(count: number): void {
    const now = this.clock.mono()
    for (const ear of this.ears.values()) ear.since = now
    this.sink.unseen({
      code: 'datagram.overrun',
      message: `This machine threw away ${count} ${count === 1 ? 'datagram' : 'datagrams'} before the witness could read them: of what went out until now and was not seen nobody can say whether it arrived`,
      hint: 'Let fewer go a second, or have the machine hold more for its sockets (net.core.rmem_max)',
      where: 'witness',
    })
  }

  private lost(why: Failure): void {
    if (this.connectedAt === null) return
    this.close()
    this.sink.lost(why)
  }

  async drain(): Promise<void> {
    const ports = new Set([...this.ears.values()].map((e) => e.port))
    while (this.connectedAt !== null && ((await heldFor(ports))?.waiting ?? 0) > 0) await sleep(this.clock, AGAIN_MS / 5)
  }

  counted(): void {
    // Nobody is to be told.
  }

  safe(): void {
    // Nobody is to be told.
  }

  view(): WitnessView | null {
    if (this.connectedAt === null) return null
    return {
      connectedAt: this.connectedAt,
      clearAt: this.clearAt,
      // A network may hand datagrams out in another order than they were sent.
      seenAt: Number.NEGATIVE_INFINITY,
      seenAnyAt: Number.NEGATIVE_INFINITY,
      coveredSince: (place) => this.ears.get(place)?.since ?? Number.POSITIVE_INFINITY,
    }
  }

  probe(): void {
    this.look()
  }

  silentMs(): number {
    return 0
  }

  close(): void {
    this.connectedAt = null
    for (const stop of [...this.timers.splice(0), this.again]) stop()
    for (const place of [...this.ears.keys()]) this.leave(place)
    this.clearAt = Number.NEGATIVE_INFINITY
    this.dropped = new Map()
  }
}
