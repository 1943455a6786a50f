import type { HubSettings } from '~/contract/destinations/hub'
import type { Failure } from '~/contract/failure'
import type { Envelope } from '~/core/delivery/envelope'
import { packProperties, unpackProperties } from '~/core/delivery/properties'
import { beyondProfile, type HubUnit, topicWriter } from '~/core/hub/profile'
import { qosOf } from '~/core/mqtt/qos'
import type { Cancel, Clock } from '../../clock/clock'
import type { Answer, DestinationConnection, DestinationSink, Outgoing, Remembered } from '../driver'
import { type DayCount, HubPace } from './pace'

/** What carries the id of a message at hubs. */
const ID = 'embrik-id'
/** A quota that is used up is looked at again so often, ms: the clock may be set. */
const DAY_LOOK_MS = 60_000

const octetsOf = (payload: Envelope['payload']): number => (typeof payload === 'string' ? Buffer.byteLength(payload) : payload.length)

/** Sends to a hub over a connection to a broker: topics as its profile has them, within the limits that it tells. */
export class HubSender implements DestinationConnection {
  private readonly topic: ReturnType<typeof topicWriter>
  private readonly pace: HubPace
  private timer: Cancel | null = null
  private dayTold = false

  constructor(
    private readonly inner: DestinationConnection,
    private readonly settings: HubSettings,
    unit: HubUnit,
    private readonly sink: DestinationSink,
    private readonly clock: Clock,
    remembered: Remembered,
  ) {
    const { profile } = settings
    this.topic = topicWriter(profile, unit)
    let today = remembered.get('today') as DayCount | undefined
    if (!today) remembered.set('today', (today = { day: 0, count: 0 }))
    this.pace = new HubPace(profile.perSecond, profile.perDay, today)
  }

  get window(): number {
    return this.inner.window
  }

  unfit(m: Outgoing): Failure | null {
    const { envelope: e } = m
    const beyond = beyondProfile(this.settings.profile, {
      qos: qosOf[e.assurance],
      kept: unpackProperties(e.properties).kept ?? false,
      octets: octetsOf(e.payload),
      place: e.topic,
    })
    if (!beyond) return this.inner.unfit(this.told(m))
    const { code, message, hint } = beyond
    return { code: `hub.${code}`, message: `A message to ${e.topic.slice(0, 200)} was not sent: ${message}`, hint, where: 'destination' }
  }

  /** The message as it goes to the broker. */
  private told(m: Outgoing): Outgoing {
    const { envelope: e, id } = m
    const { profile } = this.settings
    const p = unpackProperties(e.properties)
    const beside: [string, string][] = [
      [ID, id],
      ...p.headers,
      ...(p.contentType === '' ? [] : [['content-type', p.contentType] as [string, string]]),
    ]
    const topic = this.topic(e.topic, profile.properties === 'topic' ? beside : [])
    const properties = profile.properties === 'user' ? e.properties : packProperties({ ...p, headers: [], contentType: '', responseTopic: '' })
    return { ...m, envelope: { ...e, topic, properties } }
  }

  ready(ordinal: number, e: Envelope): boolean {
    const { ms, day } = this.pace.wait(this.clock.mono(), this.clock.wall())
    if (ms > 0) this.again(ms, day)
    return ms === 0 && this.inner.ready(ordinal, e)
  }

  private again(ms: number, day: boolean): void {
    if (day && !this.dayTold) {
      this.dayTold = true
      this.sink.waits({
        code: 'hub.day',
        message: `The ${this.settings.profile.perDay} messages a day that the hub takes are used up`,
        hint: 'What comes waits in the outbox until midnight UTC; send less, or ask for more there',
        where: 'destination',
      })
    }
    if (this.timer) return
    this.timer = this.clock.after(day ? Math.min(ms, DAY_LOOK_MS) : ms, () => {
      this.timer = null
      this.sink.ready()
    })
  }

  send(m: Outgoing, answer: (a: Answer) => void): void {
    this.dayTold = false
    this.pace.sent(this.clock.mono(), this.clock.wall())
    this.inner.send(this.told(m), answer)
  }

  heard(): Promise<void> {
    return this.inner.heard()
  }

  close(): void {
    this.timer?.()
    this.timer = null
    this.inner.close()
  }
}
