import { FailureError, fail } from '~/contract/failure'
import type { Brick } from '~/contract/live'
import type { Caller } from '~/contract/person'
import { allows } from '~/contract/role'
import type { WhatIsWrong, Wrong } from '~/contract/wrong'
import { partWords, stopWords } from '~/core/credential/ending-words'
import { daysLeft, ENDS_SOON_DAYS } from '~/core/credential/validity'
import { SLICE_MS } from '~/core/delivery/account-changes'
import { Histogram } from '~/core/delivery/histogram'
import { eventLine, listEvents, wentWrong } from '~/store/event'
import { fatesSince, loadLatency, wallBricks } from '~/store/ledger'
import { oddBetween } from '~/store/odd'
import { database } from '../context'
import { endings } from '../endings'
import type { Handlers } from '../endpoint'
import { askEngine } from '../engine-client'
import { whileAllowed } from '../streams'

type Keys =
  | 'whatIsWrong'
  | 'sideBySide'
  | 'clocks'
  | 'findHop'
  | 'brick'
  | 'ledger'
  | 'wall'
  | 'latency'
  | 'events'
  | 'eventLine'
  | 'conditions'
  | 'live'

/** Most bricks a row of the wall may have in one answer. */
const BRICKS_MAX = 2000

const HOUR_MS = 3_600_000
const DAY_MS = 24 * HOUR_MS
const YEAR_MS = 366 * DAY_MS

/** What the engine says is wrong; that there is none is the first thing that is. */
async function fromEngine(): Promise<Pick<WhatIsWrong, 'now' | 'soon'>> {
  try {
    return (await (await askEngine('/wrong')).json()) as Pick<WhatIsWrong, 'now' | 'soon'>
  } catch (e) {
    if (!(e instanceof FailureError)) throw e
    const { message, hint, where } = e.failure
    return { now: [{ severity: 'bad', where, subjectId: null, subject: 'Engine', since: null, cause: message, hint }], soon: [] }
  }
}

async function endingCredentials(): Promise<Wrong[]> {
  return (await endings(database(), { keys: false })).flatMap((ending) => {
    const days = daysLeft({ notAfter: ending.until }, Date.now())
    if (days >= ENDS_SOON_DAYS) return []
    const ended = days < 0
    return [
      {
        severity: ended ? ('bad' as const) : ('uncertain' as const),
        where: 'credential' as const,
        subjectId: ending.credentialId,
        subject: `${partWords[ending.what].replace(/^./, (first) => first.toUpperCase())} ${ending.name}`,
        since: Date.parse(ending.until),
        cause: ended ? `ended ${-days} days ago` : `ends in ${days} ${days === 1 ? 'day' : 'days'}`,
        hint: stopWords(ending),
      },
    ]
  })
}

async function whatIsWrong(caller: Caller): Promise<WhatIsWrong> {
  const at = Date.now()
  const since = at - DAY_MS
  const [engine, ending, fates, hour] = await Promise.all([
    fromEngine(),
    allows(caller.role, 'engineer') ? endingCredentials() : [],
    fatesSince(database(), since),
    wentWrong(database(), at - HOUR_MS),
  ])
  const ended = (w: Wrong) => w.severity === 'bad'
  return { at, since, fates, now: [...engine.now, ...ending.filter(ended)], soon: [...ending.filter((w) => !ended(w)), ...engine.soon], hour }
}

function demandSpan({ from, to, sliceMs }: { from: number; to: number; sliceMs: number }): void {
  if (to <= from || (to - from) / sliceMs > BRICKS_MAX)
    throw fail(422, 'wall.span', `The span must hold 1 to ${BRICKS_MAX} slices`, 'Choose a wider slice or a shorter span', 'ledger')
}

function deliveryOf(params: { delivery?: string }): number {
  const delivery = Number(params.delivery)
  if (!Number.isInteger(delivery) || delivery < 1 || delivery > 0x7fffffff)
    throw fail(404, 'delivery.unknown', 'There is no such delivery', 'Take its number from /api/ledger', 'ledger')
  return delivery
}

export const proofHandlers: Pick<Handlers, Keys> = {
  whatIsWrong: ({ caller }) => whatIsWrong(caller),
  clocks: async () => (await askEngine('/clocks')).json(),
  sideBySide: async ({ body, request }) => (await askEngine('/compare', { body, signal: request.signal })).json(),
  findHop: async ({ query }) => (await askEngine(`/way?${new URLSearchParams(query)}`)).json(),
  ledger: async () => (await askEngine('/ledger')).json(),
  conditions: async () => (await askEngine('/conditions')).json(),
  wall: async ({ query }) => {
    const { from, to, sliceMs } = query
    if (sliceMs % SLICE_MS !== 0)
      throw fail(422, 'wall.slice', `A slice must be a multiple of ${SLICE_MS} ms`, 'Choose 10000, 60000, 600000, 3600000 or 86400000', 'ledger')
    demandSpan(query)
    const start = Math.floor(from / sliceMs) * sliceMs
    const rows = new Map<number, Brick[]>()
    for (const { delivery, brick } of await wallBricks(database(), start, to, sliceMs)) rows.set(delivery, [...(rows.get(delivery) ?? []), brick])
    return { from: start, to, sliceMs, rows: [...rows].map(([delivery, bricks]) => ({ delivery, bricks })) }
  },
  brick: async ({ params, query: { from, to } }) => {
    const delivery = deliveryOf(params)
    if (to <= from || to - from > YEAR_MS) throw fail(422, 'wall.span', 'The span must be up to a year long', 'Choose a shorter span', 'ledger')
    const minute = (ms: number) => Math.floor(ms / 60_000)
    const [odd, minutes] = await Promise.all([
      oddBetween(database(), delivery, from, to),
      loadLatency(database(), minute(from), delivery, minute(to - 1)),
    ])
    const all = new Histogram()
    for (const row of minutes) all.merge(row.histogram)
    return { odd, latency: all.bars() }
  },
  latency: async ({ params }) => {
    const delivery = deliveryOf(params)
    const all = new Histogram()
    for (const row of await loadLatency(database(), Math.floor(Date.now() / 60_000) - 60, delivery)) all.merge(row.histogram)
    return all.bars()
  },
  events: ({ query }) => listEvents(database(), query.limit, query.from, query.to),
  eventLine: ({ query }) => {
    demandSpan(query)
    return eventLine(database(), query.from, query.to, query.sliceMs)
  },
  live: async ({ request, caller }) => {
    const headers = { 'content-type': 'text/event-stream', 'cache-control': 'no-store', 'x-accel-buffering': 'no' }
    try {
      const upstream = await askEngine(`/live${new URL(request.url).search}`, { signal: request.signal })
      return new Response(whileAllowed(upstream.body!, request, caller), { headers })
    } catch (e) {
      if (!(e instanceof FailureError) || e.status === 429) throw e
      const { message, hint } = e.failure
      return new Response(`retry: 1000\nevent: down\ndata: ${JSON.stringify({ message, hint })}\n\n`, { headers })
    }
  },
}
