import type { Finding, Reach } from '~/contract/publication'

const DAY_S = 86_400

export interface Load {
  /** Messages a second; null: not known. */
  perSecond: number | null
  /** Octets of one, with what goes beside it; null: not known. */
  octets: number | null
  /** From what was recorded in so long. */
  recordedS?: number
}

/** What an outbox takes of a message beside its payload and place, octets. */
const AROUND = 60

/** How long a link may be away before the oldest is dropped. */
export function reachOf({ perSecond, octets, recordedS }: Load, outboxMb: number): Reach {
  const known = perSecond !== null && octets !== null && perSecond > 0
  const recorded = recordedS === undefined ? {} : { recordedS }
  return { perSecond, octets, ...recorded, hours: known ? (outboxMb * 1e6) / (perSecond * (octets + AROUND)) / 3600 : null }
}

/** An outbox that holds less than a night is soon full. */
const SHORT_H = 8

export interface Limits {
  perSecond: number | null
  perDay: number | null
}

/** What a destination takes, against what would be sent. */
export function loadFindings({ perSecond, hours }: Reach, limits: Limits, name: string): Finding[] {
  const out: Finding[] = []
  if (perSecond === null) return out
  const say = (section: Finding['section'], message: string, hint: string) => out.push({ severity: 'warns', section, message, hint, passing: true })
  const round = (n: number) => (n >= 10 ? Math.round(n).toLocaleString('en') : String(Number(n.toPrecision(2))))
  if (limits.perSecond !== null && perSecond > limits.perSecond)
    say('through', `${round(perSecond)} messages a second would go, ${name} takes ${limits.perSecond}`, 'Send less often, or gather over time')
  if (limits.perDay !== null && perSecond * DAY_S > limits.perDay)
    say(
      'through',
      `${round(perSecond * DAY_S)} messages a day would go, ${name} takes ${round(limits.perDay)}`,
      'Send less often, or gather over time',
    )
  if (hours !== null && hours < SHORT_H)
    say(
      'safely',
      `The outbox holds ${hours < 1 ? `${Math.max(1, Math.round(hours * 60))} min` : `${round(hours)} h`} at this rate, then the oldest is dropped`,
      'Give the destination a larger outbox',
    )
  return out
}
