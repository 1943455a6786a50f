import { afterEach, expect, it } from 'vitest'
import { versionDifferences } from '~/core/publication/version-differences'
import { freeze } from '~/store/freeze'
import { goBack, goLive, setRunning } from '~/store/going-live'
import { frozen, getPublication } from '~/store/publication'
import { changePublication } from '~/store/publication-edit'
import { listVersions } from '~/store/version'
import { scene } from './scene'
import { until } from './support'

let s: Awaited<ReturnType<typeof scene>>
afterEach(() => s.end())

/** Changes what is written, and lets it go live. */
async function again(topic: string, seconds?: number) {
  const { id, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...draft } = await getPublication(s.t.db, s.publicationId)
  const trigger = seconds === undefined ? draft.trigger : { kind: 'every' as const, seconds }
  await changePublication(s.t.db, id, { ...draft, trigger, address: { ...draft.address, topic } as never })
  await goLive(s.t.db, id, 'test', freeze)
}
const topics = () => new Set(s.b.broker.truth.arrivals.map((a) => a.topic).filter((t) => t.startsWith('varnmoor/')))

it('an earlier version goes live again as it was frozen, under messages: nothing is lost, doubled or out of order, numbers run on', async () => {
  s = await scene({ publication: { topic: 'varnmoor/one/{unit}' } })
  const still = s.feed(5)
  await until(() => s.counts()!.arrived > 50, 'messages to flow')
  await again('varnmoor/two/{unit}')
  await until(() => topics().has('varnmoor/two/zone-1'), 'the second')
  const edited = await getPublication(s.t.db, s.publicationId)
  const now = await goBack(s.t.db, s.publicationId, 1, 'Ines')
  expect(now).toMatchObject({ liveVersion: 3, state: 'live', editedSinceLive: true, address: edited.address, version: edited.version })
  const before = s.b.broker.truth.arrivals.length
  await until(() => s.b.broker.truth.arrivals.slice(before).some((a) => a.topic === 'varnmoor/one/zone-1'), 'the first again')
  await until(() => s.counts()!.arrived > 200, 'more')
  still()
  await s.settled()
  const counts = s.counts()!
  expect(counts).toMatchObject({ missing: 0, doubled: 0, disordered: 0, unknown: 0 })
  expect(counts.arrived).toBe(counts.produced)
  const ids = s.b.broker.truth.arrivals.flatMap((a) => (a.key ? [Number(a.key.split('.')[2])] : []))
  expect(ids).toEqual([...ids].sort((a, b) => a - b))

  const versions = await listVersions(s.t.db, s.publicationId)
  expect(versions.map(({ number, backTo, live, madeBy }) => [number, backTo, live, madeBy])).toEqual([
    [3, 1, true, 'Ines'],
    [2, null, false, 'test'],
    [1, null, false, 'test'],
  ])
  // Back to what went back is back to what that was.
  await goBack(s.t.db, s.publicationId, 2, 'Ines')
  await goBack(s.t.db, s.publicationId, 3, 'Ines')
  expect((await listVersions(s.t.db, s.publicationId))[0]).toMatchObject({ number: 5, backTo: 1 })
})

it('says in what two versions differ: what was chosen, and what receivers see', async () => {
  s = await scene({ publication: { topic: 'varnmoor/one/{unit}' }, zones: 2 })
  await again('varnmoor/two/{unit}', 5)
  const between = versionDifferences(await frozen(s.t.db, s.publicationId, 1), await frozen(s.t.db, s.publicationId, 2))
  expect(between.differences.map((d) => `${d.kind} ${d.what}: ${d.before} > ${d.after}`)).toEqual([
    'setting trigger.kind: change > every',
    'setting trigger.seconds: nothing > 5',
    'setting address.topic: varnmoor/one/{unit} > varnmoor/two/{unit}',
    'topic Zone 1: varnmoor/one/zone-1 > varnmoor/two/zone-1',
    'topic Zone 2: varnmoor/one/zone-2 > varnmoor/two/zone-2',
  ])
  const same = await frozen(s.t.db, s.publicationId, 2)
  expect(versionDifferences(same, same)).toEqual({ differences: [], count: 0 })
})

it('a version that is live, that there is none of, or that its destination can no more do is refused; of one that is paused the same goes live', async () => {
  s = await scene({ publication: { topic: 'varnmoor/one/{unit}' } })
  const back = (n: number) => goBack(s.t.db, s.publicationId, n, 'test')
  await expect(back(1)).rejects.toMatchObject({ failure: { code: 'version.live' } })
  await expect(back(7)).rejects.toMatchObject({ failure: { code: 'version.unknown' } })
  await setRunning(s.t.db, s.publicationId, false)
  expect(await back(1)).toMatchObject({ state: 'live', liveVersion: 2 })
})
