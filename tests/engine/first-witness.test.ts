import { sql } from 'kysely'
import { expect, it } from 'vitest'
import { messageId } from '~/core/delivery/envelope'
import { installationCode } from '~/store/person'
import { FlowProcess, flowingProgram } from './flowing'
import { zonesPlant } from './plant'
import { layRoads } from './roads'
import { pause } from './scene'
import { freshDatabase, readLedger, until } from './support'

it('where no witness has ever read, nothing goes out before it is kept where the first one begins: one that is killed leaves no gap', {
  timeout: 300_000,
}, async () => {
  const t = await freshDatabase()
  const laid = await layRoads(t, 100_000, 60)
  const { handles, equipmentIds } = await zonesPlant(t.db, t.vault, 10)
  const publications: { road: string; delivery: number }[] = []
  for (const road of laid.roads.keys()) publications.push({ road, ...(await laid.publish(road, 0, equipmentIds, { trigger: { kind: 'change' } })) })
  // The database takes everything else.
  const raises = "begin raise exception 'could not extend file: No space left on device' using errcode = '53100'; end"
  await sql.raw(`create function no_position() returns trigger language plpgsql as $$ ${raises} $$`).execute(t.db)
  await sql.raw('create trigger no_position before insert or update on witness_position for each row execute function no_position()').execute(t.db)
  const engine = new FlowProcess({ program: await flowingProgram(), url: t.url, key: t.key, handles, perSecond: 50, files: laid.top })
  const there = async () => {
    const out = new Map<string, Map<string, number>>()
    for (const [name, road] of laid.roads) out.set(name, await road.copies())
    return out
  }
  try {
    await engine.start()
    // Longer than anybody waits for a witness that is away.
    await pause(9000)
    await engine.kill()
    for (const [name, copies] of await there()) expect(copies.size, name).toBe(0)
    await sql.raw('drop trigger no_position on witness_position').execute(t.db)
    await engine.start()
    await pause(5000)
    engine.still()
    const ledger = await until(
      async () => {
        const read = await readLedger(t.db)
        return publications.every((p) => (read.countsOf(p.delivery)?.stored ?? 0) > 0 && read.countsOf(p.delivery)!.waiting === 0) ? read : null
      },
      () => `every message to have its verdict: ${engine.output}`,
      120,
    )
    const installation = await installationCode(t.db)
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
    await t.drop()
  }
})
