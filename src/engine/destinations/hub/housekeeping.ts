import type { HubProfile } from '~/contract/hub-profile'
import { filledFor, type HubUnit } from '~/core/hub/profile'
import { isoOf } from '~/core/value/iso-time'
import type { Cancel, Clock } from '../../clock/clock'
import { VERSION } from '../../version'
import type { Say } from '../mqtt/driver'

/** What a sender counts over all its connections of this run. */
export interface SenderCounts {
  sent: number
  acknowledged: number
  rejected: number
}

/** What a unit tells of itself, as JSON; times in ISO 8601, UTC. */
export interface SelfTold extends SenderCounts {
  unit: string
  at: string
  software: string
  connectedAt: string
  sentToday: number
}

/** Tells a hub of its unit: once a connection stands, and then as often as the profile says. */
export class Housekeeping {
  private say: Say | null = null
  private connectedAt = 0
  private timer: Cancel | null = null

  constructor(
    private readonly profile: Pick<HubProfile, 'selfTopic' | 'selfEveryS'>,
    private readonly unit: HubUnit,
    private readonly clock: Clock,
  ) {}

  begun(say: Say): void {
    this.say = say
    this.connectedAt = this.clock.wall()
  }

  /** `counts` gives what there is to tell; `said` hears of each time, since the hub may count it. */
  start(counts: () => SenderCounts & { sentToday: number }, said: () => void): void {
    const { selfTopic, selfEveryS } = this.profile
    if (selfTopic === '') return
    const topic = filledFor(selfTopic, this.unit)
    const tell = () => {
      const told: SelfTold = {
        unit: this.unit.unit,
        at: isoOf(this.clock.wall()),
        software: `Embrik ${VERSION}`,
        connectedAt: isoOf(this.connectedAt),
        ...counts(),
      }
      this.say?.(topic, new TextEncoder().encode(JSON.stringify(told)))
      said()
    }
    tell()
    if (selfEveryS !== null) this.timer = this.clock.every(selfEveryS * 1000, tell)
  }

  stop(): void {
    this.timer?.()
    this.timer = null
    this.say = null
  }
}
