import { FailureError } from '~/contract/failure'
import { plainMessage } from '~/core/mqtt/publish'
import { withSeq } from '~/core/shape/sparkplug-birth'
import type { Clock } from '../../clock/clock'
import type { MqttLink } from '../../net/mqtt-link'
import type { DestinationSink } from '../driver'
import { hostOnline, type NodeSession } from '../session'

/** How long a connection waits for the receiver that it speaks to, before it says that it is not there, ms. */
const HOST_WAIT_MS = 5000
/** Births that are asked for again and again go out so often at most, ms. */
const REBIRTH_MS = 2000

/** Nothing else is sent any more when this is. */
const DEATH_ID = 65_535

const octets = (payload: string | Uint8Array) => (typeof payload === 'string' ? new TextEncoder().encode(payload) : payload)

const gone = {
  code: 'sparkplug.host-away',
  message: 'The primary host is not there',
  hint: 'Start it, or take its id out of the shape; the outbox holds what comes meanwhile',
  where: 'destination' as const,
}

/**
 * The session of an edge node on one connection: listens for commands and for the host that is waited for, then sends the
 * births. They go out again when somebody asks for them. When the host goes, the connection ends, and the will says so.
 */
export class RunningSession {
  private seq = 0
  private online = false
  private there: (() => void) | null = null
  private born = false
  private askedAt = Number.NEGATIVE_INFINITY
  private link!: MqttLink

  constructor(
    private readonly node: NodeSession,
    private readonly number_: number,
    private readonly sink: DestinationSink,
    private readonly clock: Clock,
  ) {}

  /** Gives a payload its number in the session (Sparkplug 3.0 6.4.5): from 0 at the birth of the node, up to 255 and round. */
  number(payload: string | Uint8Array): Uint8Array {
    return withSeq(octets(payload), this.seq++)
  }

  /** Says that the node is gone, before a connection that ends on purpose (Sparkplug 3.0 6.4.21): its will is not spoken then. */
  die(): void {
    if (!this.born || this.link.lostOrClosed) return
    const { topic, payload } = this.node.death(this.number_, this.clock.wall())
    this.link.publish(plainMessage(topic, payload, 1, DEATH_ID))
  }

  private births(): void {
    this.seq = 0
    for (const { topic, payload } of this.node.births(this.number_, this.clock.wall())) this.link.publish(plainMessage(topic, this.number(payload)))
  }

  message(topic: string, payload: Uint8Array): void {
    if (topic === this.node.commandTopic) {
      if (!this.born || !this.node.isRebirth(payload)) return
      if (this.clock.mono() - this.askedAt < REBIRTH_MS) return
      this.askedAt = this.clock.mono()
      this.births()
    } else if (topic === this.node.hostTopic) {
      this.online = hostOnline(payload)
      if (this.online) this.there?.()
      else if (this.born) this.sink.down(gone)
    }
  }

  async begin(link: MqttLink): Promise<void> {
    this.link = link
    const { commandTopic, hostTopic } = this.node
    const reasons = await link.subscribe([commandTopic, ...(hostTopic ? [hostTopic] : [])], true)
    const refused = reasons.findIndex((r) => r >= 0x80)
    if (refused >= 0)
      throw new FailureError({
        code: 'sparkplug.commands',
        message: `The broker does not let it listen to ${refused === 0 ? commandTopic : hostTopic}`,
        hint: 'Give the log-in the permission to read its commands there',
        where: 'destination',
      })
    // What it retains may have come with the subscription.
    if (hostTopic && !this.online)
      await new Promise<void>((done, failed) => {
        const cancel = this.clock.after(HOST_WAIT_MS, () => failed(new FailureError(gone)))
        this.there = () => {
          cancel()
          done()
        }
      })
    if (link.lostOrClosed)
      throw new FailureError({ ...gone, code: 'destination.closed', message: 'The connection was lost while it waited for the primary host' })
    this.births()
    this.born = true
  }
}
