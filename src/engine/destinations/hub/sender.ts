import type { HubSettings } from '~/contract/destinations/hub'
import type { Failure } from '~/contract/failure'
import type { DayCount } from '~/core/delivery/delivery-store'
import type { Envelope } from '~/core/delivery/envelope'
import { packProperties, unpackProperties } from '~/core/delivery/properties'
import { beyondProfile, type HubUnit, topicWriter } from '~/core/hub/profile'
import { qosOf } from '~/core/mqtt/qos'
import type { Cancel, Clock } from '../../clock/clock'
import type { Answer, DestinationConnection, DestinationSink, OpenOptions, Outgoing, Remembered } from '../driver'
import type { Housekeeping, SenderCounts } from './housekeeping'
import { HubPace } from './pace'

/** What carries the id of a message at hubs. */
const ID = 'embrik-id'
/** A quota that is used up is looked at again so often, ms: the clock may be set. */
const DAY_LOOK_MS = 60_000

/** What went out today is written down so often: a hub that refuses a few at the end of its day says so. */
const KEEP_MS = 2000

/** What went out today, over all connections of this run and the runs before. */
export async function todayOf({ remembered, days }: Pick<OpenOptions, 'remembered' | 'days'>): Promise<DayCount> {
  const known = remembered.get('today') as DayCount | undefined
  if (known) return known
  const today = (await days.load()) ?? { day: 0, count: 0 }
  remembered.set('today', today)
  return today
}

function countsOf(remembered: Remembered): SenderCounts {
  let counts = remembered.get('counts') as SenderCounts | undefined
  if (!counts) remembered.set('counts', (counts = { sent: 0, acknowledged: 0, rejected: 0 }))
  return counts
}

const octetsOf = (payload: Envelope['payload']): number => (typeof payload === 'string' ? Buffer.byteLength(payload) : payload.length)

/** Sends to a hub over a connection to a broker: topics as its profile has them, within the limits that it tells. */
export class HubSender implements DestinationConnection {
  private readonly topic: ReturnType<typeof topicWriter>
  private readonly pace: HubPace
  private readonly counts: SenderCounts
  private readonly sink: DestinationSink
  private readonly clock: Clock
  private readonly days: OpenOptions['days']
  private readonly keeping: Cancel
  private kept: number
  private timer: Cancel | null = null
  private dayTold = false

  constructor(
    private readonly inner: DestinationConnection,
    private readonly settings: HubSettings,
    unit: HubUnit,
    { sink, clock, remembered, days }: Pick<OpenOptions, 'sink' | 'clock' | 'remembered' | 'days'>,
    today: DayCount,
    private readonly house: Housekeeping,
  ) {
    const { profile } = settings
    this.topic = topicWriter(profile, unit)
    this.sink = sink
    this.clock = clock
    this.days = days
    this.counts = countsOf(remembered)
    this.pace = new HubPace(profile.perSecond, profile.perDay, today)
    this.kept = today.count
    this.keeping = clock.every(KEEP_MS, () => this.keep())
    house.start(
      () => ({ ...this.counts, sentToday: today.count }),
      () => this.pace.sent(clock.mono(), clock.wall()),
    )
  }

  /** Writes down what went out today; where that cannot be written now, the next time does. */
  private keep(): void {
    const { today } = this.pace
    if (today.count === this.kept) return
    const count = today.count
    this.days.keep({ ...today }).then(
      () => {
        this.kept = count
      },
      () => undefined,
    )
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
    this.counts.sent++
    this.inner.send(this.told(m), (a) => {
      if (a.kind === 'has') this.counts.acknowledged++
      else if (a.kind === 'refused') this.counts.rejected++
      answer(a)
    })
  }

  heard(): Promise<void> {
    return this.inner.heard()
  }

  close(): void {
    this.timer?.()
    this.timer = null
    this.keeping()
    this.keep()
    this.house.stop()
    this.inner.close()
  }
}
