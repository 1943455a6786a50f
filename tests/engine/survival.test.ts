import { beforeAll, describe, expect, it } from 'vitest'
import { parseMessageId } from '~/core/delivery/envelope'
import { chance } from '~/core/value/chance'
import type { Ledger } from '~/engine/ledger/ledger'
import { type Db, openDatabase } from '~/store/database'
import { addDestination } from '~/store/destination'
import { installationCode } from '~/store/person'
import { FlowProcess, flowingProgram, loses, ownServer } from './flowing'
import { disagreements, expected, type Made, tallied } from './oracle'
import { publish, zonesPlant } from './plant'
import { brokerSettings, freshDatabase, readLedger, startBroker, type TestBroker, until } from './support'

/** Beyond all waits: how long a cut and a slow machine hold messages up is not what is judged here. */
const LATE_S = 3600
const ZONES = 20
const PER_SECOND = 500
const pause = (ms: number) => new Promise((done) => setTimeout(done, ms))

let program: string
beforeAll(async () => {
  program = await flowingProgram()
})

/** A database with a plant and one publication of 20 zones, a broker, and an engine in a process of its own. */
class Flow {
  private constructor(
    readonly t: Awaited<ReturnType<typeof freshDatabase>>,
    readonly b: TestBroker,
    readonly process: FlowProcess,
  ) {}

  static async make(server?: string): Promise<Flow> {
    const t = await freshDatabase(server)
    const b = await startBroker(undefined, { logLimit: Number.POSITIVE_INFINITY })
    const settings = { ...(await brokerSettings(t.db, t.vault, b.ports)), lateS: LATE_S }
    const { handles, equipmentIds } = await zonesPlant(t.db, t.vault, ZONES)
    const destinationId = (await addDestination(t.db, { name: 'Broker', kind: 'mqtt', enabled: true, settings })).id
    await publish(t.db, { destinationId, equipmentIds, topic: '{enterprise}/flow/{unit}' })
    return new Flow(t, b, new FlowProcess({ program, url: t.url, key: t.key, handles, perSecond: PER_SECOND }))
  }

  /** How the ledger stands in the database: what an engine that starts now would find. */
  async ledger(db: Db = this.t.db): Promise<{ ledger: Ledger; delivery: number }> {
    const ledger = await readLedger(db)
    const [delivery] = ledger.accounts.keys()
    return { ledger, delivery: delivery ?? 0 }
  }

  /** Lets no more be made and waits until every message has its verdict; then holds each against the broker's log. */
  async judge(db: Db = this.t.db) {
    this.process.still()
    await pause(500)
    const counts = await until(
      async () => {
        const { ledger, delivery } = await this.ledger(db)
        const c = ledger.countsOf(delivery)
        const { copies } = this.b.broker.truth
        return c && c.stored > 0 && c.waiting === 0 && copies.every((x) => x.client !== 'reader' || x.ackedAt !== null) ? c : null
      },
      `every message to have its verdict: ${this.process.output}`,
      90,
    )
    const { ledger, delivery } = await this.ledger(db)
    const installation = await installationCode(db)
    const log = this.b.broker.truth
    const made = new Map<number, Made>()
    for (const a of log.arrivals) {
      const id = parseMessageId(installation, a.key)
      // The device's time is a little before the time it was made: the broker has no other.
      if (id && !made.has(id.seq)) made.set(id.seq, { seq: id.seq, topic: a.topic, producedAt: a.at })
    }
    const never = Array.from({ length: counts.stored }, (_, i) => i + 1).filter((seq) => !made.has(seq))
    const e = expected([...made.values()], (m) => `${installation}.${delivery}.${m.seq}`, log, {
      witness: 'reader',
      lateMs: LATE_S * 1000,
      byId: true,
    })
    const wrong = disagreements(e, (seq) => ledger.account(delivery).verdict(seq))
    return { counts, never, sums: tallied(e), wrong, acknowledged: log.arrivals.filter((a) => a.ack === 'sent').length }
  }

  async end(): Promise<void> {
    await this.process.end()
    await this.b.broker.stop()
    await this.t.drop()
  }
}

type Judged = Awaited<ReturnType<Flow['judge']>>

function holds(j: Judged, atLeast: number, said: string): void {
  expect(j.wrong.slice(0, 10), said).toEqual([])
  expect(j.never, `${said}: stored and never at the broker`).toEqual([])
  expect(j.counts.stored, said).toBeGreaterThan(atLeast)
  // Nothing missing, no topic out of order; twice only what went out again because its acknowledgement was lost.
  expect(j.counts, said).toMatchObject({ arrived: j.counts.stored, missing: 0, disordered: 0, altered: 0, dropped: 0, unknown: 0, foreign: 0 })
  expect(
    Object.keys(j.sums).filter((k) => !['confirmed', 'doubled'].includes(k)),
    said,
  ).toEqual([])
  expect(j.counts.doubled, said).toBe(j.sums.doubled ?? 0)
}

// Each has its own broker, database and engine, and mostly waits: together they take as long as the longest.
describe.concurrent('500 messages a second', () => {
  it('the broker is cut off for 20 s, three times', { timeout: 1_800_000 }, async () => {
    const flow = await Flow.make()
    try {
      await flow.process.start()
      for (let i = 0; i < 3; i++) {
        await pause(2000)
        flow.b.broker.cut(20)
        await pause(21_000)
      }
      await pause(2000)
      holds(await flow.judge(), PER_SECOND, 'cut')
    } finally {
      await flow.end()
    }
  })

  it('the engine is killed ten times at random moments', { timeout: 1_800_000 }, async () => {
    const seed = Number(process.env.EMBRIK_SEED ?? Math.floor(Math.random() * 1e9))
    const random = chance(seed)
    const flow = await Flow.make()
    try {
      for (let i = 0; i < 10; i++) {
        await flow.process.start()
        await pause(random() * 2500)
        await flow.process.kill()
      }
      await flow.process.start()
      await pause(1000)
      holds(await flow.judge(), PER_SECOND, `seed ${seed}`)
    } finally {
      await flow.end()
    }
  })

  it('the engine stands still for 20 s and goes on', { timeout: 1_800_000 }, async () => {
    const flow = await Flow.make()
    try {
      await flow.process.start()
      await pause(2000)
      const { goOn } = flow.process.freeze()
      await pause(20_000)
      goOn()
      await pause(3000)
      holds(await flow.judge(), PER_SECOND, 'stood still')
    } finally {
      await flow.end()
    }
  })

  it('the engine stands still for 20 s while another takes over: the one that wakes ends, and nothing is sent by both', {
    timeout: 1_800_000,
  }, async () => {
    const flow = await Flow.make()
    try {
      await flow.process.start()
      await pause(2000)
      const { goOn, ended } = flow.process.freeze()
      const began = Date.now()
      await flow.process.start()
      await pause(Math.max(0, 20_000 - (Date.now() - began)))
      goOn()
      expect(await ended).toBe(75)
      await pause(1000)
      holds(await flow.judge(), PER_SECOND, 'taken over')
    } finally {
      await flow.end()
    }
  })

  it('the engine runs out of file handles while the link is cut, and has some again', { timeout: 1_800_000 }, async () => {
    const flow = await Flow.make()
    try {
      await flow.process.start()
      await pause(2000)
      // Fewer than it has: nothing new can be opened.
      flow.process.openAtMost(5)
      flow.b.broker.cut(1)
      await pause(8000)
      flow.process.openAtMost(1024)
      await pause(6000)
      holds(await flow.judge(), PER_SECOND, 'handles')
    } finally {
      await flow.end()
    }
  })

  it('PostgreSQL is stopped at once and started again, three times', { timeout: 1_800_000 }, async () => {
    const server = await ownServer()
    await server.start()
    const flow = await Flow.make(server.url)
    // The pool of the setting-up is not to be caught by the stops.
    await flow.t.close()
    try {
      await flow.process.start()
      await loses(server, 3)
      const db = openDatabase(flow.t.url, 2)
      holds(await flow.judge(db), PER_SECOND, 'PostgreSQL')
      await db.destroy()
    } finally {
      await flow.end()
      await server.stop('SIGINT')
    }
  })
})
