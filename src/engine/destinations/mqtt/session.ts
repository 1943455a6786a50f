import { type Failure, FailureError } from '~/contract/failure'
import type { Envelope } from '~/core/delivery/envelope'
import { unpackProperties } from '~/core/delivery/properties'
import { plainMessage } from '~/core/mqtt/publish'
import { withSeq } from '~/core/shape/sparkplug-birth'
import { type Cancel, type Clock, sleep } from '../../clock/clock'
import type { MqttLink } from '../../net/mqtt-link'
import type { DestinationSink, Remembered } from '../driver'
import { hostState, type NodeSession, type SessionMessage } from '../session'
import { markHistorical } from './history'

/** It is looked so often whether the receiver that is waited for is there, or the wait is over, ms. */
const HOST_LOOK_MS = 100
/** Births that are asked for again and again go out so often at most, ms. */
const REBIRTH_MS = 2000
/** What has changed of the node itself is told so often at most, ms. */
const NEWS_MS = 10_000

/** Nothing else is sent any more when this is. */
const DEATH_ID = 65_535

const octets = (payload: string | Uint8Array) => (typeof payload === 'string' ? new TextEncoder().encode(payload) : payload)

const gone: Failure = {
  code: 'sparkplug.host-away',
  message: 'The primary host is not there',
  hint: 'Start it, or take its id out of the shape; the outbox holds what comes meanwhile',
  where: 'destination',
}

const older: Failure = {
  ...gone,
  code: 'sparkplug.host-older',
  message: 'What the primary host says is older than what it said before, and does not count',
  hint: 'Its clock was set back, most likely: set it right; the outbox holds what comes meanwhile',
}

/** What is known of a node over all connections of one destination. */
interface Known {
  identity: string
  /** Devices whose death was told. */
  dead: Set<string>
  /** What the host said last. */
  host: { online: boolean; timestamp: number } | null
}

function knownOf(remembered: Remembered, node: NodeSession): Known {
  const before = remembered.get('node') as Known | undefined
  if (before?.identity === node.identity) return before
  const fresh: Known = { identity: node.identity, dead: new Set(), host: before?.host ?? null }
  remembered.set('node', fresh)
  return fresh
}

/**
 * The session of an edge node on one connection: listens for commands and for the host that is waited for, then sends the
 * births. They go out again when somebody asks for them. When the host goes, the node dies, and the connection with it.
 */
export class RunningSession {
  private seq = 0
  private born = false
  /** Since when it is born on this connection, monotonic ms. */
  private bornAt = Number.POSITIVE_INFINITY
  private online = false
  /** What the host said last is older than what it said before. */
  private older = false
  private askedAt = Number.NEGATIVE_INFINITY
  private stopNews: Cancel = () => undefined
  private stopRebirth: Cancel | null = null
  private link!: MqttLink
  private readonly known: Known

  constructor(
    private readonly node: NodeSession,
    private readonly number_: number,
    private readonly sink: DestinationSink,
    private readonly clock: Clock,
    remembered: Remembered,
  ) {
    this.known = knownOf(remembered, node)
  }

  /** Says that the node is gone, before a connection that ends on purpose (Sparkplug 3.0 5.7): its will is not spoken then. */
  die(): void {
    this.stopNews()
    this.stopRebirth?.()
    if (!this.born || this.link.lostOrClosed) return
    this.born = false
    const { topic, payload } = this.node.death(this.number_, this.clock.wall())
    this.link.publish(plainMessage(topic, payload, 1, DEATH_ID))
  }

  /** Sends with the next number in the session (6.4.5): from 0 at the birth of the node, up to 255 and round. */
  private say({ topic, payload }: SessionMessage): void {
    this.link.publish(plainMessage(topic, withSeq(payload, this.seq++)))
  }

  private births(): void {
    const { node, clock, known } = this
    this.seq = 0
    const now = clock.wall()
    this.say(node.birth(this.number_, now))
    // A device whose death was told is born again with its next data.
    for (const device of node.devices) if (!known.dead.has(device)) this.say(node.deviceBirth(device, now))
    this.bornAt = clock.mono()
  }

  /** What has to go out before data of a device: its birth, when it was dead. */
  before(topic: string): void {
    const device = this.node.deviceOf(topic)
    if (device === null || !this.known.dead.delete(device)) return
    this.say(this.node.deviceBirth(device, this.clock.wall()))
  }

  /** The payload as it goes out now: with its number, and marked when it waited and a birth was faster. */
  payload(e: Envelope): Uint8Array {
    const waited = e.madeMono === undefined || e.madeMono < this.bornAt
    return withSeq(waited ? markHistorical(octets(e.payload)) : octets(e.payload), this.seq++)
  }

  /** What has to go out after data of a device: its death, when they say that it is lost. */
  after(e: Envelope): void {
    if (unpackProperties(e.properties).mark !== 'device-lost') return
    const device = this.node.deviceOf(e.topic)
    if (device === null) return
    this.say(this.node.deviceDeath(device, this.clock.wall()))
    this.known.dead.add(device)
  }

  private host(payload: Uint8Array): void {
    const state = hostState(payload)
    const { host } = this.known
    // What is no state, or an older one that came late, says nothing (Sparkplug 3.0 5.4).
    if (!state) return
    this.older = host !== null && state.timestamp < host.timestamp
    if (this.older) return
    this.known.host = state
    this.online = state.online
    if (state.online || !this.born) return
    this.die()
    this.sink.down(gone)
  }

  message(topic: string, payload: Uint8Array): void {
    if (topic === this.node.hostTopic) return this.host(payload)
    if (!this.born) return
    for (const command of this.node.commands(topic, payload) ?? []) {
      if (command.kind === 'rebirth') this.rebirth()
      else this.node.notYet(command.words)
    }
    this.news()
  }

  /** Births again, at once or when the last ones are long enough ago: nobody who asks is forgotten. */
  private rebirth(): void {
    const { clock } = this
    const wait = this.askedAt + REBIRTH_MS - clock.mono()
    if (wait > 0) {
      this.stopRebirth ??= clock.after(wait, () => {
        this.stopRebirth = null
        if (this.born && !this.link.lostOrClosed) this.rebirth()
      })
      return
    }
    this.askedAt = clock.mono()
    this.births()
  }

  /** Tells what has changed of the node itself. */
  private news(): void {
    if (!this.born || this.link.lostOrClosed) return
    const news = this.node.news(this.clock.wall())
    if (news) this.say(news)
  }

  async begin(link: MqttLink, over: () => boolean): Promise<void> {
    this.link = link
    const { commandTopic, deviceCommandFilter, hostTopic } = this.node
    // Commands for devices are answered where the log-in may hear them, and not needed.
    const filters = [commandTopic, ...(hostTopic ? [hostTopic] : []), deviceCommandFilter]
    const reasons = await link.subscribe(filters, true)
    const refused = reasons.slice(0, -1).findIndex((r) => r >= 0x80)
    if (refused >= 0)
      throw new FailureError({
        code: 'sparkplug.commands',
        message: `The broker does not let it listen to ${filters[refused]}`,
        hint: 'Give the log-in the permission to read its commands there',
        where: 'destination',
      })
    if (hostTopic) await this.waitForHost(over)
    this.births()
    this.born = true
    this.stopNews = this.clock.every(NEWS_MS, () => this.news())
  }

  /** Stays connected until the host says that it is there, however long that takes. */
  private async waitForHost(over: () => boolean): Promise<void> {
    const { link, clock, sink } = this
    let told: Failure | null = null
    // What it retains may have come with the subscription.
    while (!this.online) {
      await sleep(clock, HOST_LOOK_MS)
      if (link.lostOrClosed)
        throw new FailureError({ ...gone, code: 'destination.closed', message: 'The connection was lost while it waited for the primary host' })
      if (over()) throw new FailureError(gone)
      const why = this.older ? older : gone
      if (this.online || told === why) continue
      told = why
      sink.waits(why)
    }
  }
}
