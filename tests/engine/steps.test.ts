import { afterEach, describe, expect, it } from 'vitest'
import { ShapeSettings } from '~/contract/shape'
import type { Step } from '~/contract/step'
import { freeze } from '~/store/freeze'
import { goBack, setRunning } from '~/store/going-live'
import { getPublication } from '~/store/publication'
import { memoryOf } from '~/store/publication-memory'
import { publishedDraft } from './drafts'
import { pause, type SceneOptions, scene } from './scene'
import { until } from './support'

let s: Awaited<ReturnType<typeof scene>>
afterEach(() => s.end())

/** The broker keeps what came, and not only its digest. */
const broker: SceneOptions['broker'] = { keyOf: (m) => (m.topic.startsWith('varnmoor/one/') ? m.payload.toString() : null) }
const begin = (steps: Step[], o: Partial<SceneOptions> = {}) =>
  scene({ ...o, broker, publication: { topic: 'varnmoor/one/{unit}', steps, ...o.publication } })
/** What the broker has of the topics of this scene, oldest first. */
const arrived = () => s.b.broker.truth.arrivals.flatMap((a) => (a.key === null ? [] : [JSON.parse(a.key) as Record<string, unknown>]))
const set = (value: number, status = 0) =>
  s.engine.table.apply({
    handles: s.handles,
    values: s.handles.map(() => value),
    statuses: s.handles.map(() => status),
    times: s.handles.map(() => Date.now()),
  })
const arrivedCount = (n: number) =>
  until(
    () => s.counts()!.arrived >= n,
    () => JSON.stringify(s.counts()),
  )
const condition = () => s.engine.publicationConditions()[s.publicationId]!
const exact = async () => {
  await s.settled()
  const counts = s.counts()!
  expect(counts).toMatchObject({ missing: 0, doubled: 0, disordered: 0, unknown: 0 })
  expect(counts.arrived).toBe(counts.produced)
}

it('change, keep and look up what is sent; the account is that of what was sent', async () => {
  s = await begin([
    { kind: 'keep', condition: 'n > 10.0', unknown: 'drop' },
    { kind: 'set', member: 'half', expression: 'n / 2' },
    {
      kind: 'lookup',
      member: 'n',
      table: {
        columns: ['n', 'car'],
        rows: [
          ['12', 'A7'],
          ['14', 'B1'],
        ],
      },
      otherwise: 'none',
    },
    { kind: 'rename', member: 'n', to: 'raw.n' },
  ])
  for (const v of [1, 11, 12, 7, 14]) set(v)
  await arrivedCount(3)
  await exact()
  expect(arrived().map((m) => [m['raw.n'], m.half, m.car])).toEqual([
    [11, 5.5, 'none'],
    [12, 6, 'A7'],
    [14, 7, 'B1'],
  ])
  expect(s.counts()!.produced).toBe(3)
})

describe('a script', () => {
  it("keeps every message and their order, at a flood and while versions take each other's place", { timeout: 120_000 }, async () => {
    const script: Step = { kind: 'script', code: 'return message', gives: [] }
    s = await begin([script])
    const still = s.feed(5)
    await arrivedCount(100)
    for (let i = 0; i < 4; i++) {
      await publishedDraft(s.t, s.publicationId, { steps: [script, { kind: 'set', member: 'version', expression: `${i}.0` }] })
      const before = s.counts()!.arrived
      await arrivedCount(before + 50)
    }
    await goBack(s.t.db, s.publicationId, 1, 'test')
    await arrivedCount(s.counts()!.arrived + 50)
    still()
    const last = s.change()
    await until(() => arrived().at(-1)?.n === last, 'the last')
    await exact()
    const ns = arrived().map((m) => m.n as number)
    expect(ns).toEqual([...ns].sort((a, b) => a - b))
    // A new version says first how things are, which may be what the one before said last; nothing else is left out or twice.
    const gaps = ns.slice(1).map((n, i) => n - ns[i]!)
    expect(gaps.filter((g) => g > 1)).toEqual([])
    expect(gaps.filter((g) => g === 0).length).toBeLessThanOrEqual(6)
  })

  it('that fails stops only its message, and is told with line and column until one goes through again', { timeout: 60_000 }, async () => {
    s = await begin([{ kind: 'script', code: 'if (message.n === 2 || message.n === 3)\n  message.nothing.more = 1\nreturn message', gives: [] }])
    for (const v of [1, 2, 3]) set(v)
    await until(() => condition().state === 'trouble', 'trouble')
    expect(condition().reason).toContain('2 messages did not get through: step 1, Script: line 2, column')
    const [event] = await s.events('publication.failed')
    expect(event?.message ?? (await s.events()).map((e) => e.message).join()).toContain('step 1, Script: line 2')
    set(4)
    await until(() => condition().state === 'running', 'no trouble')
    await exact()
    expect(arrived().map((m) => m.n)).toEqual([1, 4])
  })

  it('that always fails for one equipment of many is told once, however often the others go through', { timeout: 60_000 }, async () => {
    s = await begin([{ kind: 'script', code: 'if (equipment.name === "Zone 2") null.x\nreturn message', gives: [] }], { zones: 3 })
    s.change(100)
    await until(() => s.counts()!.arrived >= 200, 'the others')
    await exact()
    expect(condition()).toMatchObject({
      state: 'trouble',
      reason: expect.stringContaining('100 messages did not get through: step 1, Script: line 1'),
    })
    expect((await s.events()).filter((e) => e.message.includes('step 1, Script'))).toHaveLength(1)
  })

  it('has its state again after a pause, and in the next version', { timeout: 60_000 }, async () => {
    const script: Step = {
      kind: 'script',
      code: 'state.count = (state.count ?? 0) + 1\nmessage.count = state.count\nreturn message',
      gives: [{ member: 'count', dataType: 'integer', unit: '' }],
    }
    s = await begin([script])
    for (const v of [1, 2, 3]) set(v)
    await arrivedCount(3)
    await setRunning(s.t.db, s.publicationId, false)
    await until(async () => [...(await memoryOf(s.t.db, s.publicationId)).values()].includes('{"count":3}'), 'the state to be kept')
    set(10)
    await setRunning(s.t.db, s.publicationId, true)
    await arrivedCount(4)
    expect(arrived().at(-1)).toMatchObject({ n: 10, count: 4 })
    await publishedDraft(s.t, s.publicationId, { steps: [script, { kind: 'rename', member: 'n', to: 'number' }] })
    await until(() => arrived().at(-1)?.number === 10, 'the next version')
    expect(arrived().at(-1)).toMatchObject({ count: 5 })
    await exact()
  })

  it('that is wrong as it is written does not go live; what is live goes on', async () => {
    s = await begin([])
    expect(await s.engine.scriptProblems(['return message', 'let x = = 1'])).toEqual([null, expect.stringContaining('line 1, column 9')])
  })
})

describe('a window', () => {
  it('gathers what changes, and loses nothing when its version is over, it is paused or the engine stops', { timeout: 60_000 }, async () => {
    const window: Step = { kind: 'window', seconds: 3, by: 'most', count: 'changes' }
    s = await begin([window])
    for (const v of [1, 5, 2]) set(v)
    await arrivedCount(1)
    expect(arrived()).toMatchObject([{ n: 5, changes: 3 }])
    set(7)
    set(6)
    await publishedDraft(s.t, s.publicationId, { steps: [window, { kind: 'set', member: 'second', expression: 'true' }] })
    await until(() => arrived().some((m) => m.n === 7 && m.second === undefined), 'what the first had')
    // The second begins with how things are.
    await until(() => arrived().some((m) => m.n === 6 && m.second === true), 'the second')
    set(8)
    await setRunning(s.t.db, s.publicationId, false)
    await until(() => arrived().at(-1)?.n === 8, 'what it had when it was paused')
    await exact()
  })
})

it('what was smoothed goes on from where it was after a pause', { timeout: 60_000 }, async () => {
  s = await begin([{ kind: 'smooth', members: ['n'], seconds: 1000 }], { publication: { trigger: { kind: 'every', seconds: 0.2 } } })
  set(100)
  await until(() => arrived().some((m) => m.n === 100), 'the first value')
  set(0)
  await until(() => (arrived().at(-1)?.n as number) < 100, 'it to move')
  await setRunning(s.t.db, s.publicationId, false)
  await until(async () => (await memoryOf(s.t.db, s.publicationId)).size > 0, 'it to be kept')
  await setRunning(s.t.db, s.publicationId, true)
  const before = s.counts()!.arrived
  await arrivedCount(before + 2)
  expect(arrived().at(-1)!.n).toBeGreaterThan(90)
})

it('a message that is held back at a cut is not waited for: what passes afterwards arrives', { timeout: 120_000 }, async () => {
  s = await begin([{ kind: 'drop', condition: 'n > 100.0', unknown: 'pass' }])
  set(1)
  await arrivedCount(1)
  s.gate.cut(60)
  set(500)
  set(2)
  await pause(300)
  s.gate.mend()
  await arrivedCount(2)
  await exact()
  expect(arrived().map((m) => m.n)).toEqual([1, 2])
})

it('steps that cannot be are refused at the go-live by what is wrong', async () => {
  s = await begin([])
  const publication = await getPublication(s.t.db, s.publicationId)
  const refused = (steps: Step[], shape = publication.shape) => expect(freeze({ ...publication, steps, shape }, s.t.db)).rejects
  await refused([{ kind: 'set', member: 'x', expression: 'm + 1.0' }]).toMatchObject({
    failure: { code: 'preflight.stops', fields: { steps: expect.stringContaining('Step 1, Set: Zone 1: m is not known') } },
  })
  await refused([{ kind: 'window', seconds: 5, by: 'last' }], ShapeSettings.parse({ kind: 'value' })).toMatchObject({
    failure: { fields: { steps: expect.stringContaining('works on one message about each equipment') } },
  })
  await refused([{ kind: 'leave', members: ['n'], but: false }]).toMatchObject({
    failure: { fields: { steps: expect.stringContaining('nothing would be left to send') } },
  })
})
