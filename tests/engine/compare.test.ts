// Tags stand beside where they arrive, by what was recorded of both, and what is wrong between them is named.
import { sql } from 'kysely'
import { afterEach, expect, it } from 'vitest'
import type { Compared, ComparePair, CompareQuery } from '~/contract/compare'
import { decodeRegisters, encodeRegisters } from '~/core/value/register'
import { Comparing } from '~/engine/compare/comparing'
import { JournalDesk } from '~/engine/outbox/journal-desk'
import { deflatePacking } from '~/engine/outbox/packing'
import { addDestination } from '~/store/destination'
import { listTags } from '~/store/tag'
import { addTags } from '~/store/tag-edit'
import { publish } from './plant'
import { pause, scene } from './scene'
import { until } from './support'

let s: Awaited<ReturnType<typeof scene>>
afterEach(() => s.end())

const ROUNDS = 60
const wave = (n: number) => Math.fround(500 + 80 * Math.sin(n / 9) + 30 * Math.sin(n / 3.7))

async function ask(begun: number, part: Partial<CompareQuery> = {}): Promise<Compared> {
  return JSON.parse(await s.engine.journal.compare({ publicationIds: [], tags: [], from: begun, to: Date.now(), open: null, ...part })) as Compared
}

/** What was held up to now is written. */
async function recorded() {
  const at = Date.now()
  await until(
    async () => {
      // What comes later than a block is what writes it.
      s.engine.table.apply({ handles: s.handles.slice(0, 1), values: [wave(1000)], statuses: [0], times: [Date.now()] })
      const { rows } = await sql<{ to: number | null }>`select max(to_ms) as to from recording`.execute(s.t.db)
      return (rows[0]!.to ?? 0) >= at
    },
    'the recording to be written',
    60,
  )
}

const set = (handles: readonly number[], values: readonly number[]) =>
  s.engine.table.apply({ handles: [...handles], values: [...values], statuses: values.map(() => 0), times: values.map(() => Date.now()) })

/** So many rounds of values, each zone its own. */
async function run(rounds = ROUNDS, also: (round: number, values: number[]) => void = () => undefined) {
  for (let n = 0; n < rounds; n++) {
    const values = s.handles.map((_, i) => wave(n + i * 40))
    set(s.handles, values)
    also(n, values)
    await pause(15)
  }
}

const of = (c: Compared, publicationId: string) =>
  c.pairs.filter((p) => p.came.kind === 'member' && p.came.publicationId === publicationId).sort((a, b) => a.tag.localeCompare(b.tag))
const what = (pairs: readonly ComparePair[]) => pairs.map((p) => [p.tag, p.state, p.finding])

it('what arrives as it is agrees; ten times as much is named; what was lost or altered on the way is told and not compared', {
  timeout: 180_000,
}, async () => {
  const begun = Date.now()
  s = await scene({ zones: 3, settings: { lateS: 3 } })
  const same = { destinationId: s.destinationId, equipmentIds: s.equipmentIds }
  const tenfold = await publish(s.t.db, {
    ...same,
    name: 'tenfold',
    topic: 'varnmoor/ten/{unit}',
    steps: [{ kind: 'set', member: 'n', expression: 'n * 10.0' }],
  })
  await until(() => s.engine.publications.running.has(tenfold), 'the second publication')
  await run()
  await s.settled()
  await s.settled(60, tenfold)
  await recorded()
  await s.settled()
  const told = await ask(begun)
  const own = of(told, s.publicationId)
  expect(what(own)).toEqual([1, 2, 3].map((n) => [`Zone ${n}/n`, 'agrees', null]))
  for (const p of own.slice(1)) expect(p).toMatchObject({ basis: 'seen', off: 0, most: 0, unexplained: 0, lost: 0, carried: p.held, arrived: p.held })
  expect(own[1]!.held).toBeGreaterThanOrEqual(ROUNDS - 1)
  expect(own[1]!.lag!.median).toBeLessThan(30_000)
  expect(what(of(told, tenfold)).slice(1)).toEqual([2, 3].map((n) => [`Zone ${n}/n`, 'differs', { kind: 'factor', factor: 10, unit: '' }]))
  // The worst stand first.
  expect(told.pairs.slice(0, 3).every((p) => p.state === 'differs')).toBe(true)
  expect(of(told, tenfold)[1]!.came).toMatchObject({ computed: 'n * 10.0', place: 'varnmoor/ten/zone-2' })

  const later = Date.now()
  s.faults({ drop: 0.3 })
  await run(40)
  await s.settled()
  s.faults({ alter: 0.3 })
  await run(40)
  await s.settled()
  s.faults({})
  await recorded()
  await s.settled()
  const counts = s.counts()!
  const lossy = of(await ask(later), s.publicationId)
  const sum = (key: 'lost' | 'altered') => lossy.reduce((n, p) => n + p[key], 0)
  expect(sum('lost')).toBe(counts.missing)
  expect(sum('altered')).toBe(counts.altered)
  expect(counts.missing).toBeGreaterThan(10)
  expect(counts.altered).toBeGreaterThan(10)
  for (const p of lossy) {
    expect(p).toMatchObject({ state: 'agrees', off: 0, unexplained: 0 })
    expect(p.carried).toBeLessThan(p.held)
  }

  const [, second] = lossy
  const opened = await ask(later, { open: second!.key })
  expect(opened.pairs.map((p) => p.key)).toEqual([second!.key])
  const { held, came } = opened.pairs[0]!.curves!
  expect(held.length).toBeGreaterThan(20)
  // Many points are drawn as few.
  expect(came.length).toBeGreaterThan(10)
  expect(came.length).toBeLessThanOrEqual(opened.pairs[0]!.arrived)
  const valuesHeld = new Set(held.map(([, v]) => v))
  expect(came.every(([, v]) => valuesHeld.has(v))).toBe(true)
})

it('tags that come back by another way: exchanged, with words exchanged, in another unit, smaller, and as they are', {
  timeout: 180_000,
}, async () => {
  const begun = Date.now()
  s = await scene({ zones: 6 })
  const all = await listTags(s.t.db)
  const { sourceId } = all[0]!
  const back = await addTags(
    s.t.db,
    s.handles.map((_, n) => ({
      ...{ name: `back/${n + 1}`, sourceId, address: `ns=1;s=back ${n}`, dataType: 'number' as const, description: '', deadband: null },
      unit: n === 4 ? '°F' : '',
    })),
  )
  const five = all.find((t) => t.name === 'Zone 5/n')!
  await sql`update tag set unit = '°C' where id = ${five.id}`.execute(s.t.db)
  const swapped = (v: number) => Number(decodeRegisters(encodeRegisters(v, 'float32', 'ABCD')!, 0, 'float32', 'CDAB'))
  await run(ROUNDS, (_, [one, two, three, four, five, six]) => {
    const values = [two!, one!, swapped(three!), four!, five!, six! / 1000]
    set(
      back.map((t) => t.handle),
      values,
    )
  })
  await s.settled()
  await recorded()
  const tags = s.handles.map((_, n) => ({ held: all.find((t) => t.name === `Zone ${n + 1}/n`)!.id, came: back[n]!.id }))
  const told = await ask(begun, { tags })
  const pairs = told.pairs.filter((p) => p.came.kind === 'tag').sort((a, b) => a.tag.localeCompare(b.tag))
  const keys = pairs.map((p) => p.key)
  expect(what(pairs)).toEqual([
    ['Zone 1/n', 'differs', { kind: 'exchanged', with: keys[1] }],
    ['Zone 2/n', 'differs', { kind: 'exchanged', with: keys[0] }],
    ['Zone 3/n', 'differs', { kind: 'order', type: 'float32', order: 'CDAB' }],
    ['Zone 4/n', 'agrees', null],
    ['Zone 5/n', 'differs', { kind: 'unit', is: '°C', said: '°F' }],
    ['Zone 6/n', 'differs', { kind: 'factor', factor: 0.001, unit: '' }],
  ])
  expect(pairs.every((p) => p.basis === 'read')).toBe(true)
})

it('of what was not sent nothing is said to be lost; where there is too much to read, what lies behind the end is not called still', {
  timeout: 180_000,
}, async () => {
  const begun = Date.now()
  s = await scene({ zones: 2 })
  const deadband = { kind: 'absolute' as const, size: 1e6 }
  const quiet = await publish(s.t.db, {
    ...{ destinationId: s.destinationId, equipmentIds: s.equipmentIds, name: 'quiet', topic: 'varnmoor/quiet/{unit}' },
    trigger: { kind: 'change', deadband },
  })
  await until(() => s.engine.publications.running.has(quiet), 'the second publication')
  const later = Date.now()
  await run()
  await s.settled()
  await recorded()
  const unsent = of(await ask(later + 500, { publicationIds: [quiet] }), quiet)
  expect(unsent.map((p) => [p.state, p.finding, p.lost])).toEqual([
    ['unsent', null, 0],
    ['unsent', null, 0],
  ])
  await pause(31_000)
  await run(40)
  await s.settled()
  await recorded()
  const fates = s.engine.publications.deliveries.map(({ number }) => [number, s.engine.ledger.account(number).fates(1)] as const)
  const question = { kind: 'compare' as const, publicationIds: [s.publicationId], tags: [], from: begun, to: Date.now(), open: null, fates }
  const few = new Comparing(s.t.db, new JournalDesk(s.t.db, deflatePacking), 60)
  const cut = await few.compare(question, new Map((await listTags(s.t.db)).map((t) => [t.id, t])))
  expect(cut.notes.join()).toContain('there is more than is read at once')
  expect(cut.pairs.map((p) => [p.state, p.finding])).toEqual([
    ['agrees', null],
    ['agrees', null],
  ])
})

it('a device whose clock is set back by an hour in between has no false name', { timeout: 120_000 }, async () => {
  const begun = Date.now()
  s = await scene({ zones: 2 })
  const all = await listTags(s.t.db)
  for (let n = 0; n < ROUNDS; n++) {
    const at = Date.now() + (n < ROUNDS / 2 ? 3_600_000 : 0)
    s.engine.table.apply({ handles: s.handles, values: [wave(n), wave(n)], statuses: [0, 0], times: [at, at] })
    await pause(15)
  }
  const to = Date.now()
  await s.settled()
  await recorded()
  const [held, came] = ['Zone 1/n', 'Zone 2/n'].map((name) => all.find((t) => t.name === name)!.id)
  const told = await ask(begun, { to, publicationIds: [s.publicationId], tags: [{ held: held!, came: came! }] })
  expect(told.pairs.map((p) => [p.state, p.finding])).toEqual([
    ['agrees', null],
    ['agrees', null],
    ['agrees', null],
  ])
})

it('where nobody looks what is acknowledged counts; what is not recorded is said; one that runs not at all is left out', {
  timeout: 120_000,
}, async () => {
  const begun = Date.now()
  s = await scene({ zones: 1 })
  const blind = await addDestination(s.t.db, {
    name: 'Blind',
    kind: 'mqtt',
    enabled: true,
    settings: { ...s.settings, clientId: 'blind', witness: false },
  })
  const unseen = await publish(s.t.db, { destinationId: blind.id, equipmentIds: s.equipmentIds, name: 'unseen', topic: 'varnmoor/unseen/{unit}' })
  await until(() => s.engine.publications.running.has(unseen), 'the second publication')
  await until(() => s.engine.destinations.get(blind.id)?.present().state === 'running', 'its destination')
  await run(30)
  await s.settled()
  await until(() => (s.counts(unseen)?.acknowledged ?? 0) >= 30, 'all to be acknowledged')
  await recorded()
  const [pair] = of(await ask(begun, { publicationIds: [unseen] }), unseen)
  expect(pair).toMatchObject({ basis: 'acknowledged', state: 'agrees', lost: 0, off: 0 })
  expect(pair!.arrived).toBeGreaterThanOrEqual(30)
  const [tag] = await listTags(s.t.db)
  const itself = [{ held: tag!.id, came: tag!.id }]
  await expect(ask(begun - 7_200_000, { to: begun - 3_600_000, tags: itself })).rejects.toMatchObject({ failure: { code: 'compare.nothing' } })
  expect((await ask(begun - 7_200_000, { to: begun - 3_600_000 })).pairs).toEqual([])
  expect((await ask(begun, { publicationIds: ['0192f0c0-0000-7000-8000-000000000000'] })).pairs).toEqual([])
})
