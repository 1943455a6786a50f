import { sql } from 'kysely'
import { expect, it, vi } from 'vitest'
import { getPublication } from '~/store/publication'
import { changePublication } from '~/store/publication-edit'
import { publish } from './plant'
import { scene } from './scene'
import { until } from './support'

// What many who look, and many publications, must not cost again and again.

const MANY = 40

it('what is shown is reckoned once for all who look; a draft saved among many live publications reads none of their plans', async () => {
  const s = await scene()
  const ids = []
  for (let i = 0; i < MANY; i++)
    ids.push(
      await publish(s.t.db, { destinationId: s.destinationId, equipmentIds: s.equipmentIds, name: `p${i}`, topic: `varnmoor/many/${i}/{unit}` }),
    )
  await until(() => s.engine.publishers.size === MANY + 1, 'all to be live')

  const reckoned = vi.spyOn(s.engine.ledger, 'latencyOf')
  const looked = vi.spyOn(s.engine.publications, 'conditions')
  const began = s.engine.clock.mono()
  for (let viewer = 0; viewer < 30; viewer++) {
    s.engine.lines()
    s.engine.course()
    s.engine.publicationConditions()
  }
  // A slow machine may take as long as the figures are kept, and reckon once more.
  const turns = 1 + Math.ceil((s.engine.clock.mono() - began) / 100)
  expect(reckoned.mock.calls.length).toBeLessThanOrEqual((MANY + 1) * turns)
  expect(looked.mock.calls.length).toBeLessThanOrEqual(turns)
  vi.restoreAllMocks()

  // Whoever reads them again finds that they are none, and takes nothing else up.
  await sql`update publication_version set plan = '{}'`.execute(s.t.db)
  for (const id of ids.slice(0, 5)) {
    const { id: _, version: __, state: ___, liveVersion: ____, editedSinceLive: _____, ...draft } = await getPublication(s.t.db, id)
    await changePublication(s.t.db, id, { ...draft, name: `${draft.name} again` })
  }
  const last = await publish(s.t.db, { destinationId: s.destinationId, equipmentIds: s.equipmentIds, name: 'last', topic: 'varnmoor/last/{unit}' })
  await until(() => s.engine.publishers.has(last), 'one more to be live')
  expect(s.engine.publishers.size).toBe(MANY + 2)
  await s.end()
})
