import type { HubProfile } from '~/contract/hub-profile'
import type { OwnRefusal, OwnView } from '~/contract/own-view'

const REFUSALS_MOST = 50
const TEXT_MOST = 300
/** Numbers below are seconds since 1970, others milliseconds: it is the year 1973 in the one, 5138 in the other. */
const SECONDS_BELOW = 100_000_000_000

/** What stands at a way of names parted by dots; empty: the whole. */
function at(value: unknown, way: string): unknown {
  if (way === '') return value
  let here = value
  for (const name of way.split('.')) {
    if (typeof here !== 'object' || here === null || !Object.hasOwn(here, name)) return undefined
    here = (here as Record<string, unknown>)[name]
  }
  return here
}

/** Said as a number of any size, or as a text that is one. */
function numberOf(value: unknown): number | null {
  const number = typeof value === 'string' && value.trim() !== '' ? Number(value) : value
  return typeof number === 'number' && Number.isFinite(number) ? number : null
}

const YES = /^(?:true|yes|1|connected|online|enabled)$/i
const NO = /^(?:false|no|0|disconnected|offline|disabled)$/i

function truthOf(value: unknown): boolean | null {
  const text = String(value ?? '')
  return YES.test(text) ? true : NO.test(text) ? false : null
}

/** A time as ISO 8601: from a text, or from seconds or milliseconds since 1970. */
function timeOf(value: unknown): string | null {
  const number = numberOf(value)
  const date = number === null ? new Date(typeof value === 'string' ? value : Number.NaN) : new Date(number < SECONDS_BELOW ? number * 1000 : number)
  return Number.isNaN(date.getTime()) ? null : date.toISOString()
}

const textOf = (value: unknown): string =>
  (typeof value === 'string' ? value : value === undefined || value === null ? '' : JSON.stringify(value)).slice(0, TEXT_MOST)

/** What a registry answered, read as the profile says; what it does not say is null. */
export function ownViewOf(profile: HubProfile, answers: { unit: unknown; log: unknown }, askedAt: string): OwnView {
  const said = (way: string) => (way === '' ? undefined : at(answers.unit, way))
  const rows = at(answers.log, profile.logRows)
  const refusals = (Array.isArray(rows) ? rows : []).slice(0, REFUSALS_MOST).map((row): OwnRefusal => {
    const of = (way: string) => (way === '' ? undefined : at(row, way))
    return { at: timeOf(of(profile.logAt)), why: textOf(of(profile.logWhy)), place: textOf(of(profile.logPlace)) }
  })
  return {
    askedAt,
    connected: truthOf(said(profile.saysConnected)),
    lastAt: timeOf(said(profile.saysLast)),
    taken: numberOf(said(profile.saysTaken)),
    rejected: numberOf(said(profile.saysRejected)),
    today: numberOf(said(profile.saysToday)),
    perDay: numberOf(said(profile.saysPerDay)),
    refusals,
  }
}
