import { FailureError, fail } from '~/contract/failure'
import type { Brick } from '~/contract/live'
import { SLICE_MS } from '~/core/delivery/account-changes'
import { Histogram } from '~/core/delivery/histogram'
import { listEvents } from '~/store/event'
import { loadLatency, wallBricks } from '~/store/ledger'
import { database } from '../context'
import type { Handlers } from '../endpoint'
import { askEngine } from '../engine-client'
import { whileAllowed } from '../streams'

type Keys = 'ledger' | 'wall' | 'latency' | 'events' | 'conditions' | 'live'

/** Most bricks a row of the wall may have in one answer. */
const BRICKS_MAX = 2000

export const proofHandlers: Pick<Handlers, Keys> = {
  ledger: async () => (await askEngine('/ledger')).json(),
  conditions: async () => (await askEngine('/conditions')).json(),
  wall: async ({ query }) => {
    const { from, to, sliceMs } = query
    if (sliceMs % SLICE_MS !== 0)
      throw fail(422, 'wall.slice', `A slice must be a multiple of ${SLICE_MS} ms`, 'Choose 10000, 60000, 600000 or 3600000', 'ledger')
    if (to <= from || (to - from) / sliceMs > BRICKS_MAX)
      throw fail(422, 'wall.span', `The span must hold 1 to ${BRICKS_MAX} slices`, 'Choose a wider slice or a shorter span', 'ledger')
    const start = Math.floor(from / sliceMs) * sliceMs
    const rows = new Map<number, Brick[]>()
    for (const { delivery, brick } of await wallBricks(database(), start, to, sliceMs)) rows.set(delivery, [...(rows.get(delivery) ?? []), brick])
    return { from: start, to, sliceMs, rows: [...rows].map(([delivery, bricks]) => ({ delivery, bricks })) }
  },
  latency: async ({ params }) => {
    const delivery = Number(params.delivery)
    if (!Number.isInteger(delivery)) throw fail(404, 'delivery.unknown', 'There is no such delivery', 'Take its number from /api/ledger', 'ledger')
    const all = new Histogram()
    for (const row of await loadLatency(database(), Math.floor(Date.now() / 60_000) - 60, delivery)) all.merge(row.histogram)
    return all.bars()
  },
  events: ({ query }) => listEvents(database(), query.limit, query.from, query.to),
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
