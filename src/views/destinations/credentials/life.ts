import type { Credential } from '~/contract/credential'
import { daysLeft, ENDS_SOON_DAYS } from '~/core/credential/validity'
import { serverNow } from '~/ui/clock'
import type { GlyphState } from '~/ui/Glyph'

export const kindWords: Record<Credential['kind'], string> = {
  certificate: 'certificate and key',
  authority: 'authority',
  password: 'log-in',
  token: 'key, from which tokens are made',
  application: 'own certificate for OPC UA',
  request: 'signing request, not answered yet',
}

/** How it stands with something that ends then (ISO 8601); null: it has no end. */
export function lifeOf(until: string | null): GlyphState {
  if (until === null) return 'idle'
  const days = daysLeft({ notAfter: until }, serverNow())
  return days < 0 ? 'bad' : days < ENDS_SOON_DAYS ? 'uncertain' : 'good'
}

/** `in 12 days`, `today`, `41 days ago`. */
export function whenWords(until: string, now = serverNow()): string {
  const days = daysLeft({ notAfter: until }, now)
  if (days === 0) return 'today'
  const count = Math.abs(days)
  const words = count > 730 ? `${Math.round(count / 365)} years` : `${count} ${count === 1 ? 'day' : 'days'}`
  return days < 0 ? `${words} ago` : `in ${words}`
}

/** Days at which the time line has its marks. */
export const MARKS = [
  { days: 0, label: 'today' },
  { days: 30, label: '30 days' },
  { days: 91, label: '' },
  { days: 365, label: '1 year' },
  { days: 730, label: '' },
  { days: 1825, label: '5 years' },
] as const

/** What has ended stands left of today, in so much of the line, percent. */
const PAST = 8
/** Days at which the line begins to be drawn together. */
const NEAR = 15
/** What ends later stands at the end of the line. */
const LAST = 10 * 365

/** Where on the time line something stands that is so many days away, percent: near days have more room than far ones. */
export function placeOfDays(days: number): number {
  if (days < 0) return Math.max(0, PAST - Math.sqrt(-days))
  return PAST + (100 - PAST) * (Math.log1p(Math.min(days, LAST) / NEAR) / Math.log1p(LAST / NEAR))
}
