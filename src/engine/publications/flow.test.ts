import { describe, expect, it } from 'vitest'
import { Runner } from '~/core/publication/runner'
import { planWith, type StepInput, T, zone } from '~/core/publication/steps/step-samples'
import type { Scalar } from '~/core/value/deadband'
import { Status } from '~/core/value/quality'
import { HeldClock } from '../clock/held-clock'
import { LiveTable } from '../live/table'
import { scriptsHere } from '../scripts/scripts'
import { Flow } from './flow'

const scripts = scriptsHere()
const only = { kind: 'leave', members: ['temperature', 'cars'], but: true } as const

/** A publication of two zones whose steps take their time: what came through, as it is sent. */
function begin(steps: StepInput[], o: { slow?: number } = {}) {
  const plan = planWith(steps, [zone('Zone 1', 0), zone('Zone 2', 10)])
  const clock = new HeldClock(T)
  const table = new LiveTable()
  const runner = new Runner(plan)
  const sent: Record<string, unknown>[] = []
  const failures: string[] = []
  const flow = new Flow({
    ...{ plan, runner, clock },
    scripts:
      o.slow === undefined ? scripts : { ...scripts, run: (...all) => new Promise((done) => setTimeout(() => done(scripts.run(...all)), o.slow)) },
    through(rows) {
      for (const row of rows) {
        runner.give(plan.stages!.length - 1, row, clock.wall())
        const m = runner.encode(row.n, clock.wall(), sent.length + 1, row.whole)
        if (m) sent.push({ zone: row.n + 1, sec: clock.now / 1000, ...(JSON.parse(m.payload as string) as object) })
      }
    },
    failed: (step, _n, words) => {
      if (words !== null) failures.push(`${step}: ${words}`)
    },
    guarded: (work) => work(),
  })
  const say = (part: Record<number, Scalar>, status: number = Status.good) => {
    const handles = Object.keys(part).map(Number)
    table.apply({ handles, values: Object.values(part), statuses: handles.map(() => status), times: handles.map(() => clock.wall()) })
    for (const h of handles) runner.touch(h)
    flow.offer(runner.drain(table, clock.wall()), false)
  }
  const all = (h: number, temperature: number, cars: number) =>
    say({ [h]: temperature, [h + 1]: 650, [h + 2]: true, [h + 3]: 'P12', [h + 4]: cars, [h + 5]: 1, [h + 6]: 2 })
  return { plan, clock, flow, sent, failures, say, all, runner }
}

const settled = async (done: () => boolean) => {
  await expect.poll(done, { timeout: 20_000, interval: 5 }).toBe(true)
}

describe('a window in a publication', () => {
  it('sends one message for all that changed in it, for each equipment by itself', () => {
    const s = begin([only, { kind: 'window', seconds: 10, by: 'average', count: 'changes' }])
    s.all(0, 640, 4)
    s.clock.pass(3000)
    s.all(10, 500, 1)
    s.say({ 0: 660 })
    s.clock.pass(3000)
    s.say({ 0: 680, 4: 6 })
    expect(s.sent).toEqual([])
    s.clock.pass(4000)
    expect(s.sent).toMatchObject([{ zone: 1, sec: 10, temperature: 660, cars: 14 / 3, changes: 3 }])
    s.clock.pass(3000)
    expect(s.sent[1]).toMatchObject({ zone: 2, sec: 13, temperature: 500, changes: 1 })
    s.clock.pass(3_600_000)
    expect(s.sent).toHaveLength(2)
  })

  it('does not feel a clock that is set', () => {
    const s = begin([only, { kind: 'window', seconds: 10, by: 'last' }])
    s.all(0, 640, 4)
    s.clock.set = 3_600_000
    s.clock.pass(5000)
    s.clock.set = -3_600_000
    s.clock.pass(4999)
    expect(s.sent).toEqual([])
    s.clock.pass(1)
    expect(s.sent).toHaveLength(1)
  })

  it('gives what it has when its version is over', async () => {
    const s = begin([only, { kind: 'window', seconds: 10, by: 'most' }])
    s.all(0, 640, 4)
    s.say({ 0: 630 })
    await s.flow.drain()
    expect(s.sent).toMatchObject([{ zone: 1, sec: 0, temperature: 640 }])
  })

  it('is asked before it and behind it whether a message passes', () => {
    const s = begin([
      only,
      { kind: 'keep', condition: 'temperature > 600.0' },
      { kind: 'window', seconds: 10, by: 'sum' },
      { kind: 'drop', condition: 'temperature < 1000.0' },
    ])
    s.all(0, 640, 4)
    s.all(10, 500, 1)
    s.clock.pass(10_000)
    expect(s.sent).toEqual([])
    s.say({ 0: 700 })
    s.say({ 0: 701, 10: 601 })
    s.clock.pass(10_000)
    expect(s.sent).toMatchObject([{ zone: 1, temperature: 1401 }])
    expect(s.runner.stepCounts).toEqual([
      { step: 1, passed: 4, held: 1 },
      { step: 3, passed: 1, held: 2 },
    ])
  })
})

describe('a script in a publication', () => {
  it('changes, adds and drops', async () => {
    const code = 'if (message.temperature > 900) return\nmessage.temperature += 1\nmessage.name = equipment.name\nreturn message'
    const s = begin([only, { kind: 'script', code, gives: [{ member: 'name', dataType: 'text' }] }])
    s.all(0, 640, 4)
    s.all(10, 901, 1)
    await settled(() => s.sent.length === 1)
    await s.flow.drain()
    expect(s.sent).toMatchObject([{ zone: 1, temperature: 641, cars: 4, name: 'Zone 1' }])
    expect(s.failures).toEqual([])
  })

  it('gives what it changed the worst quality and the newest time, and leaves what it did not change', async () => {
    const s = begin([only, { kind: 'script', code: 'message.temperature *= 2\nreturn message' }])
    s.all(0, 640, 4)
    await settled(() => s.sent.length === 1)
    s.clock.pass(1000)
    s.say({ 4: 5 }, Status.stale)
    await settled(() => s.sent.length === 2)
    const [temperature, cars] = s.runner.cellsOfEquipment[0]!
    expect(temperature).toMatchObject({ value: 1280, status: Status.stale, time: T + 1000 })
    expect(cars).toMatchObject({ value: 5, status: Status.stale, time: T + 1000 })
    s.clock.pass(1000)
    s.say({ 4: 6 })
    await settled(() => s.sent.length === 3)
    expect(cars).toMatchObject({ value: 6, status: Status.good, time: T + 2000 })
    expect(temperature).toMatchObject({ status: Status.good, time: T + 2000 })
  })

  it('keeps the order of messages, and state from one to the next, for each equipment by itself', async () => {
    const code = 'state.n = (state.n ?? 0) + 1\nmessage.nth = state.n\nreturn message'
    const s = begin([only, { kind: 'script', code, gives: [{ member: 'nth', dataType: 'integer' }] }], { slow: 1 })
    s.all(0, 0, 4)
    s.all(10, 0, 4)
    for (let i = 1; i < 50; i++) s.say({ 0: i, 10: -i })
    await s.flow.drain()
    expect(s.sent).toHaveLength(100)
    for (const [z, sign] of [
      [1, 1],
      [2, -1],
    ] as const) {
      const own = s.sent.filter((m) => m.zone === z)
      expect(own.map((m) => m.nth)).toEqual(own.map((_, i) => i + 1))
      expect(own.map((m) => m.temperature)).toEqual(own.map((_, i) => i * sign + 0))
    }
  })

  it('that fails stops only its message', async () => {
    const s = begin([only, { kind: 'script', code: 'if (message.temperature === 13) null.x\nreturn message' }])
    s.all(0, 12, 4)
    s.say({ 0: 13 })
    s.say({ 0: 14 })
    await s.flow.drain()
    expect(s.sent.map((m) => m.temperature)).toEqual([12, 14])
    expect(s.failures).toHaveLength(1)
    expect(s.failures[0]).toContain('1: line 1')
  })

  it.each([
    ['message.extra = 1; return message', 'It gives extra, which is not among what it adds'],
    ['message.temperature = "hot"; return message', 'It gives hot as temperature, which is no number'],
    ['message.cars = 1.5; return message', 'It gives 1.5 as cars, which is no integer'],
  ])('%s', async (code, words) => {
    const s = begin([only, { kind: 'script', code }])
    s.all(0, 12, 4)
    await s.flow.drain()
    expect(s.sent).toEqual([])
    expect(s.failures.join()).toContain(words)
  })

  it('may take as many messages as there is room for, and no more', async () => {
    const s = begin([only, { kind: 'script', code: 'return message' }], { slow: 20 })
    s.all(0, 0, 4)
    for (let i = 1; i < 1200; i++) s.say({ 0: i })
    expect(s.failures).toHaveLength(200)
    expect(s.failures[0]).toContain('1000 messages wait for it')
  })

  it('goes before and behind a window', async () => {
    const twice = { kind: 'script', code: 'message.temperature *= 2\nreturn message' } as const
    const s = begin([only, twice, { kind: 'window', seconds: 10, by: 'sum' }, twice, { kind: 'set', member: 'half', expression: 'temperature / 2' }])
    s.all(0, 1, 4)
    s.say({ 0: 2 })
    await settled(() => s.clock.now === 0 && s.runner.stepCounts.length === 0)
    await new Promise((done) => setTimeout(done, 50))
    s.clock.pass(10_000)
    await settled(() => s.sent.length === 1)
    expect(s.sent).toMatchObject([{ sec: 10, temperature: 12, half: 6 }])
  })
})
