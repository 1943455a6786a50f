import { afterAll, beforeAll, expect, it } from 'vitest'
import { HttpSettings } from '~/contract/destinations/http'
import { realClock } from '~/engine/clock/real-clock'
import { clocksOf } from '~/engine/clocks'
import { Engine } from '~/engine/engine'
import { Receiver } from '~/standins/receiver/receiver'
import { addDestination } from '~/store/destination'
import { brokerSettings, folder, freshDatabase, startBroker, until } from './support'

const HOUR = 3_600_000
let t: Awaited<ReturnType<typeof freshDatabase>>
let receiver: Receiver
let broker: Awaited<ReturnType<typeof startBroker>>
beforeAll(async () => {
  t = await freshDatabase()
  receiver = await Receiver.start({ port: 0 })
  broker = await startBroker()
  const url = `http://127.0.0.1:${receiver.port}/api`
  const settings = HttpSettings.parse({
    ...{ authorityId: null, credentialId: null, witnessCredentialId: null, retryMs: 200, ackS: 5, witness: false, lateS: 60, outboxMb: 50 },
    ...{ url, batch: 'one', readUrl: '', readEveryMs: 1000 },
  })
  await addDestination(t.db, { name: 'Receiver', kind: 'http', enabled: true, settings })
  await addDestination(t.db, { name: 'Broker', kind: 'mqtt', enabled: true, settings: await brokerSettings(t.db, t.vault, broker.ports) })
})
afterAll(async () => {
  await receiver.stop()
  await broker.broker.stop()
  await t.drop()
})

it.each([0, HOUR, -HOUR])('clocks are as far from ours as they are, when ours is off by %d ms; who tells no time is listed so', async (off) => {
  const engine = new Engine({
    ...{ db: t.db, url: t.url, vault: t.vault, workFolder: folder('clocks') },
    clock: { ...realClock, wall: () => realClock.wall() + off },
  })
  try {
    await engine.start()
    const found = await until(async () => {
      const clocks = await clocksOf(engine)
      return clocks.peers.length === 2 && clocks.silent[0]?.why.includes('tells no time') ? clocks : null
    }, 'both to tell their time')
    expect(found.peers.map((p) => p.name).sort()).toEqual(['Database', 'Receiver'])
    for (const p of found.peers) expect(Math.abs(p.offsetMs + off)).toBeLessThanOrEqual(p.withinMs + 20)
    expect(found.silent).toMatchObject([{ kind: 'destination', name: 'Broker', why: expect.stringContaining('tells no time') }])
  } finally {
    await engine.stop()
  }
})
