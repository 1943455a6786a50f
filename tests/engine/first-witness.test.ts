import { sql } from 'kysely'
import { expect, it } from 'vitest'
import { messageId } from '~/core/delivery/envelope'
import { openDatabase } from '~/store/database'
import { installationCode } from '~/store/person'
import { FlowProcess, flowingProgram, ownServer } from './flowing'
import { zonesPlant } from './plant'
import { layRoads } from './roads'
import { pause, scene } from './scene'
import { freshDatabase, readLedger, until } from './support'

it('where no witness has ever read, nothing goes out before it is kept where the first one begins: one that is killed leaves no gap', {
  timeout: 300_000,
}, async () => {
  const server = await ownServer()
  await server.start()
  const t = await freshDatabase(server.url)
  const laid = await layRoads(t, 100_000, 60)
  const { handles, equipmentIds } = await zonesPlant(t.db, t.vault, 10)
  const publications: { road: string; delivery: number }[] = []
  for (const road of laid.roads.keys()) publications.push({ road, ...(await laid.publish(road, 0, equipmentIds, { trigger: { kind: 'change' } })) })
  // The database takes everything else.
  const raises = "begin raise exception 'could not extend file: No space left on device' using errcode = '53100'; end"
  await sql.raw(`create function no_position() returns trigger language plpgsql as $$ ${raises} $$`).execute(t.db)
  await sql.raw('create trigger no_position before insert or update on witness_position for each row execute function no_position()').execute(t.db)
  let db = t.db
  const engine = new FlowProcess({ program: await flowingProgram(), url: t.url, key: t.key, handles, perSecond: 50, files: laid.top })
  const there = async () => {
    const out = new Map<string, Map<string, number>>()
    for (const [name, road] of laid.roads) out.set(name, await road.copies())
    return out
  }
  try {
    await engine.start()
    // Longer than anybody waits for a witness that is away.
    await pause(7000)
    // It is away as a whole, so that nobody knows who may listen; and comes back, and still does not keep where the witness begins.
    await t.close()
    await server.stop('SIGQUIT')
    await pause(12_000)
    await server.start()
    db = openDatabase(t.url, 2)
    await pause(7000)
    await engine.kill()
    for (const [name, copies] of await there()) expect(copies.size, name).toBe(0)
    await sql.raw('drop trigger no_position on witness_position').execute(db)
    await engine.start()
    await pause(5000)
    engine.still()
    const ledger = await until(
      async () => {
        const read = await readLedger(db)
        return publications.every((p) => (read.countsOf(p.delivery)?.stored ?? 0) > 0 && read.countsOf(p.delivery)!.waiting === 0) ? read : null
      },
      () => `every message to have its verdict: ${engine.output}`,
      120,
    )
    const installation = await installationCode(db)
    const copies = await there()
    const wrong: string[] = []
    for (const { road, delivery } of publications) {
      const account = ledger.account(delivery)
      for (let seq = 1; seq <= account.counts().stored; seq++) {
        const [is, n] = [account.verdict(seq), copies.get(road)!.get(messageId(installation, delivery, seq)) ?? 0]
        if (n !== 1 || (is !== 'confirmed' && is !== 'late')) wrong.push(`${road} no. ${seq}: ${is}, and there are ${n}`)
      }
    }
    expect(wrong.slice(0, 20)).toEqual([])
  } finally {
    await engine.end()
    await laid.stop()
    await db.destroy()
    await server.stop('SIGINT')
  }
})

it('the first witness is waited for too where the database goes away before it listens, and is back before it can', {
  timeout: 180_000,
}, async () => {
  const s = await scene({ still: true, databaseGate: true, settings: { lateS: 10 } })
  const stop = s.feed(40)
  try {
    // It takes a while until it is sure to be handed what comes.
    s.faults({ subackMs: 2500 })
    await s.engine.start()
    await until(() => s.destination()?.witness && s.counts() !== null, 'the destination and what it publishes')
    s.databaseGate!.cut(1e6)
    await until(() => s.destination().witness?.present().reason.startsWith('does not listen'), 'the right to listen to end', 60)
    // Longer than anybody waits for a witness that is away.
    await pause(7000)
    s.databaseGate!.mend()
    await s.up()
    stop()
    s.faults({})
    await s.settled()
    expect(s.counts()).toMatchObject({ unknown: 0, missing: 0, dropped: 0, waiting: 0 })
    expect(s.counts()!.confirmed + s.counts()!.late).toBeGreaterThan(100)
  } finally {
    stop()
    await s.end()
  }
})
