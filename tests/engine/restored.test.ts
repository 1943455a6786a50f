import { expect, it } from 'vitest'
import { Engine } from '~/engine/engine'
import { openDatabase } from '~/store/database'
import { listEvents } from '~/store/event'
import { judged } from './lines'
import { scene } from './scene'
import { until } from './support'

// A database that is brought back from a copy knows less than what was sent: the node that sent it remembers.

it.each(['5', '3.1.1'] as const)(
  'a database from a copy, over %s: no number is given again, what it forgot is unknown, nobody is accused',
  async (protocol) => {
    const s = await scene({ settings: { protocol, lateS: 2 } })
    s.change(20)
    await s.settled()
    const delivery = s.delivery()
    const known = s.counts()!.produced
    await s.engine.stop()
    const bringBack = await s.t.backUp()

    const start = async () => {
      const db = openDatabase(s.t.url, 6)
      const engine = new Engine({ ...s.engine.options, db })
      await engine.start()
      const destination = () => engine.destinations.get(s.destinationId)!
      await until(() => destination().present().state === 'running' && destination().witness?.view(), 'the destination to be up')
      const counts = () => engine.ledger.countsOf(delivery)!
      const change = (from: number, n: number) => {
        const times = s.handles.map(() => Date.now())
        for (let i = 0; i < n; i++)
          engine.table.apply({ handles: s.handles, values: s.handles.map(() => from + i), statuses: s.handles.map(() => 0), times })
      }
      const settled = () => until(() => judged(engine, delivery) && destination().outbox.waiting === 0, 'every verdict')
      const stop = async () => {
        await engine.stop()
        await db.destroy()
      }
      return { engine, counts, change, settled, stop }
    }

    const second = await start()
    second.change(1000, 30)
    await second.settled()
    const before = second.counts()
    await second.stop()
    await bringBack()

    const third = await start()
    expect(third.counts()).toMatchObject({ produced: before.produced, unknown: before.produced - known })
    third.change(2000, 10)
    await third.settled()
    const after = third.counts()
    expect(after).toMatchObject({ missing: 0, foreign: 0, doubled: 0, rejected: 0, dropped: 0 })
    expect(after.produced).toBeGreaterThanOrEqual(before.produced + 10)
    expect(after.confirmed).toBe(after.produced - after.unknown)
    const keys = s.b.broker.truth.arrivals.map((a) => a.key).filter((k) => k !== null)
    if (protocol === '5') expect(new Set(keys).size).toBe(keys.length)
    await third.engine.events.flush()
    const db = openDatabase(s.t.url, 1)
    const events = await listEvents(db, 100)
    expect(events.map((e) => e.code)).toEqual(expect.arrayContaining(['store.older', 'outbox.older']))
    await db.destroy()
    await third.stop()

    // The next start finds nothing out of the ordinary.
    const fourth = await start()
    expect(fourth.counts()).toMatchObject({ produced: after.produced, unknown: after.unknown })
    expect(fourth.engine.ledger.older).toBe(false)
    await fourth.stop()
    await s.gate.close()
    await s.b.broker.stop()
    await s.t.drop()
  },
)
