import { setTimeout as pause } from 'node:timers/promises'
import type { WatchedValues, WatchNodes } from '~/contract/source'
import { toWire } from '~/core/value/wire'
import { failureOf } from '../failure'
import type { SourceConnection, SourceContext, SourceTarget } from './driver'
import { sourceDriver } from './registry'

const EVERY_MS = 500

/** Values of nodes that are no tags yet, over a connection of their own, until the asker goes: what changed since the last line. */
export async function* watchNodes(target: SourceTarget, ctx: SourceContext, query: WatchNodes, stop: AbortSignal): AsyncGenerator<WatchedValues> {
  const fresh = new Map<number, WatchedValues['values'][number]>()
  let lost: WatchedValues['problem']
  let connection: SourceConnection | null = null
  const address = (h: number) => query.nodes[h]!.address
  try {
    connection = await sourceDriver(target.kind).open(target, ctx, {
      down: (f) => {
        lost = { message: f.message, hint: f.hint }
      },
      roundTrip: () => undefined,
      mark: (handles, status) => {
        for (const h of handles) fresh.set(h, { address: address(h), value: null, status, time: Date.now() })
      },
      values: (b) => {
        b.handles.forEach((h, i) => {
          fresh.set(h, { address: address(h), value: toWire(b.values[i]!), status: b.statuses[i]!, time: b.times[i]! })
        })
      },
    })
    await connection.setTags(query.nodes.map((n, handle) => ({ ...n, handle })))
    while (!stop.aborted && !lost) {
      await pause(EVERY_MS, undefined, { signal: stop }).catch(() => undefined)
      if (fresh.size === 0) continue
      const values = [...fresh.values()]
      fresh.clear()
      yield { values }
    }
    if (lost) yield { values: [], problem: lost }
  } catch (e) {
    const f = failureOf(e)
    yield { values: [], problem: { message: f.message, hint: f.hint } }
  } finally {
    await connection?.close()
  }
}
