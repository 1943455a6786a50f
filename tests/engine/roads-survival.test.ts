import { beforeAll, describe, expect, it } from 'vitest'
import { messageId } from '~/core/delivery/envelope'
import { chance } from '~/core/value/chance'
import { type Db, openDatabase } from '~/store/database'
import { installationCode } from '~/store/person'
import { FlowProcess, flowingProgram, loses, ownServer } from './flowing'
import { zonesPlant } from './plant'
import { layRoads, type Road } from './roads'
import { pause } from './scene'
import { freshDatabase, readLedger, until } from './support'

// Every road but MQTT at once: an engine and a database that are killed, and what then lies at the far ends, message by message.

const PER_SECOND = 400

let program: string
beforeAll(async () => {
  program = await flowingProgram()
})

async function begin(server?: string) {
  const t = await freshDatabase(server)
  const laid = await layRoads(t)
  const { handles, equipmentIds } = await zonesPlant(t.db, t.vault, 20)
  const roads = new Map<string, Pick<Road, 'copies'> & { delivery: number }>()
  for (const [name, { copies }] of laid.roads) {
    if (name === 'mqtt') continue
    const { delivery } = await laid.publish(name, 0, equipmentIds)
    roads.set(name, { delivery, copies })
  }
  const engine = new FlowProcess({ program, url: t.url, key: t.key, handles, perSecond: PER_SECOND, files: laid.top })

  /** Lets no more be made, waits for every verdict, and holds each against what lies there. */
  async function judge(db: Db = t.db) {
    engine.still()
    await pause(500)
    let waiting = ''
    const { ledger, installation } = await until(
      async () => {
        const read = await readLedger(db)
        const all = [...roads.values()].map(({ delivery }) => read.countsOf(delivery))
        if (all.every((c) => c && c.stored > 0 && c.waiting === 0)) return { ledger: read, installation: await installationCode(db) }
        waiting = [...roads.keys()].map((kind, i) => `${kind} ${JSON.stringify(all[i])}`).join('\n')
        return null
      },
      () => `every message to have its verdict: ${waiting}`,
      800,
    ).catch(async (e: Error) => {
      throw new Error(`${e.message}\n${await engine.stands()}`)
    })
    const out: Record<string, { stored: number; wrong: unknown[]; twice: number }> = {}
    for (const [kind, { delivery, copies }] of roads) {
      const there = await copies()
      const account = ledger.account(delivery)
      const { stored } = account.counts()
      const wrong: unknown[] = []
      let twice = 0
      for (let seq = 1; seq <= stored; seq++) {
        const n = there.get(messageId(installation, delivery, seq)) ?? 0
        if (n > 1) twice++
        const is = account.verdict(seq)
        const should = n === 0 ? 'missing' : n === 1 ? 'confirmed' : 'doubled'
        if (is !== should) wrong.push([seq, is, should])
        else if (is === 'missing') wrong.push([seq, 'is not there'])
      }
      out[kind] = { stored, wrong: wrong.slice(0, 10), twice }
    }
    return out
  }

  return {
    ...{ t, engine, judge },
    async end() {
      await engine.end()
      await laid.stop()
      await t.drop()
    },
  }
}

function holds(judged: Awaited<ReturnType<Awaited<ReturnType<typeof begin>>['judge']>>, atLeast: number, said: string): void {
  for (const [kind, { stored, wrong }] of Object.entries(judged)) {
    expect(wrong, `${kind}, ${said}`).toEqual([])
    expect(stored, `${kind}, ${said}`).toBeGreaterThan(atLeast)
  }
  // By the id of a row, and by what lies in finished files, nothing is kept twice.
  expect([judged.table!.twice, judged.file!.twice], said).toEqual([0, 0])
}

describe.concurrent('on every road at once', () => {
  it('the engine is killed eight times at random moments: all is there, and told as it is', { timeout: 1_800_000 }, async () => {
    const seed = Number(process.env.EMBRIK_SEED ?? Math.floor(Math.random() * 1e9))
    const random = chance(seed)
    const s = await begin()
    try {
      for (let i = 0; i < 8; i++) {
        await s.engine.start()
        await pause(500 + random() * 2500)
        await s.engine.kill()
      }
      await s.engine.start()
      await pause(1000)
      holds(await s.judge(), PER_SECOND, `seed ${seed}`)
    } finally {
      await s.end()
    }
  })

  it("Embrik's own database is stopped at once and started again, three times: all is there, and told as it is", { timeout: 1_800_000 }, async () => {
    const server = await ownServer()
    await server.start()
    const s = await begin(server.url)
    await s.t.close()
    try {
      await s.engine.start()
      await loses(server, 3)
      const db = openDatabase(s.t.url, 2)
      holds(await s.judge(db), PER_SECOND, 'database')
      await db.destroy()
    } finally {
      await s.end()
      await server.stop('SIGINT')
    }
  })
})
