import { describe, expect, it } from 'vitest'
import type { Plan } from '~/contract/publication'
import type { Pace, Trigger } from '~/contract/trigger'
import { conditionOf } from '~/core/publication/condition'
import { Runner } from '~/core/publication/runner'
import { kiln, member, planOf } from '~/core/shape/shape-samples'
import { Status } from '~/core/value/quality'
import { HeldClock } from '../clock/held-clock'
import { LiveTable } from '../live/table'
import { Due } from './due'

const HOUR = 3_600_000
const fill = (handle: number, width = 0) => ({ kind: 'tag' as const, handle, width, factor: 1, offset: 0 })
/** Two zones with a temperature (tag 1, 3; a range of 200) and a burner (tag 2, 4). */
const zone = (name: string, first: number) => ({
  ...kiln,
  ...{ id: `0000000${first}-0000-4000-8000-000000000000`, name },
  members: [
    member('temp', 'number', { fill: fill(first, 0.5), range: { low: 0, high: 200 } }),
    member('burner', 'boolean', { fill: fill(first + 1) }),
  ],
})

/** A publication of two zones under a clock that the test holds: what it says, as `time zone`. */
function begin(
  trigger: Trigger,
  pace?: Pace,
  o: { shape?: Parameters<typeof planOf>[0]; values?: boolean; epoch?: number; speaking?: number[]; kept?: ReadonlyMap<string, string> } = {},
) {
  const plan: Plan = {
    ...planOf(o.shape ?? { kind: 'flat-json' }, [zone('Zone 1', 1), zone('Zone 2', 3)]),
    ...{ trigger, ...(pace && { pace }), ...(o.speaking && { speaking: o.speaking }) },
  }
  if (trigger.kind === 'when')
    for (const m of plan.messages) {
      const found = conditionOf(trigger, plan.equipment[m.equipment[0]!]!.members)
      if ('problem' in found) throw new Error(found.problem)
      m.condition = found
    }
  const clock = new HeldClock(o.epoch ?? Date.UTC(2026, 10, 29))
  const table = new LiveTable()
  const runner = new Runner(plan)
  for (const h of runner.handles) table.ensure(h)
  const said: string[] = []
  const payloads: string[] = []
  const problems: unknown[] = []
  const due = new Due({
    ...{ plan, runner, values: table, clock },
    say(messages, whole) {
      for (const n of messages) {
        const encoded = runner.encode(n, clock.wall(), 1, whole)
        if (!encoded) continue
        said.push(`${clock.now / 1000} ${n + 1}`)
        payloads.push(String(encoded.payload))
        due.spoke(n, clock.mono())
      }
    },
    guarded(work) {
      try {
        work()
      } catch (e) {
        problems.push(e)
      }
    },
  })
  const set = (values: Record<number, number | boolean>, status: number = Status.good) => {
    const handles = Object.keys(values).map(Number)
    table.apply({ handles, values: Object.values(values), statuses: handles.map(() => status), times: handles.map(() => clock.wall()) })
    for (const h of handles) {
      runner.touch(h)
      runner.came(h)
    }
    due.changed()
  }
  if (o.kept) due.remember(o.kept)
  if (o.values ?? true) set({ 1: 20, 2: false, 3: 20, 4: false })
  said.length = 0
  for (const h of runner.handles) runner.touch(h)
  due.begin()
  /** What was said since it was last asked. */
  const news = () => said.splice(0)
  return { clock, due, set, news, payloads, problems, at: (s: number) => clock.pass(s * 1000 - clock.now) }
}

describe('on change', () => {
  it('speaks at first, then beyond the deadband of each tag', () => {
    const s = begin({ kind: 'change' })
    expect(s.news()).toEqual([])
    s.set({ 1: 20.4 })
    expect(s.news()).toEqual([])
    s.set({ 1: 20.6, 3: 21 })
    expect(s.news()).toEqual(['0 1', '0 2'])
  })

  it.each<[string, Trigger, number[], number]>([
    ['2 in its unit', { kind: 'change', deadband: { kind: 'absolute', size: 2 } }, [21.9, 22, 22.1], 1],
    ['zero: every change', { kind: 'change', deadband: { kind: 'absolute', size: 0 } }, [20, 20.1, 20.1, 20.2], 2],
    ['1 % of the range of 200', { kind: 'change', deadband: { kind: 'range', percent: 1 } }, [22, 22.1], 1],
    ['10 % of the value sent last', { kind: 'change', deadband: { kind: 'value', percent: 10 } }, [22, 22.1, 24.2, 24.4], 2],
    ['0 % of the value', { kind: 'change', deadband: { kind: 'value', percent: 0 } }, [20.1, 20.1], 1],
  ])('with a deadband of its own: %s', (_, trigger, values, times) => {
    const s = begin(trigger)
    s.news()
    for (const v of values) s.set({ 1: v })
    expect(s.news()).toHaveLength(times)
  })

  it('a change of quality always counts', () => {
    const s = begin({ kind: 'change', deadband: { kind: 'absolute', size: 1000 } })
    s.news()
    s.set({ 1: 20 }, Status.deviceFailure)
    expect(s.news()).toEqual(['0 1'])
  })

  it('says nothing of what is there first, if so chosen; also of values that come later', () => {
    const there = begin({ kind: 'change' }, { first: false })
    expect(there.news()).toEqual([])
    there.set({ 1: 30 })
    expect(there.news()).toEqual(['0 1'])
    const later = begin({ kind: 'change' }, { first: false }, { values: false })
    later.set({ 1: 20, 2: false, 3: 20, 4: false })
    expect(later.news()).toEqual([])
    later.set({ 1: 20.2, 3: 25 })
    expect(later.news()).toEqual(['0 2'])
  })

  it('at most every 10 s, each by itself: the first at once, what comes sooner then, with the values of then', () => {
    const s = begin({ kind: 'change' }, { mostS: 10 })
    s.at(100)
    s.news()
    s.set({ 1: 30 })
    s.at(103)
    s.set({ 1: 40, 3: 40 })
    s.at(105)
    s.set({ 1: 50 })
    s.at(150)
    expect(s.news()).toEqual(['100 1', '103 2', '110 1'])
    expect(JSON.parse(s.payloads.at(-1)!)).toMatchObject({ temp: 50 })
  })

  it('what changed there and back while it waited is no change', () => {
    const s = begin({ kind: 'change' }, { mostS: 10 })
    s.at(100)
    s.set({ 1: 30 })
    s.set({ 1: 40 })
    s.set({ 1: 30.1 })
    s.at(150)
    expect(s.news()).toEqual(['100 1'])
    s.set({ 1: 40 })
    expect(s.news()).toEqual(['150 1'])
  })

  it('at least every 60 s, whole, also in a shape that says only what changed', () => {
    const s = begin({ kind: 'change' }, { leastS: 60 }, { shape: { kind: 'flat-json', fullEvery: 0 } })
    s.at(10)
    s.news()
    s.set({ 1: 30 })
    s.at(61)
    // The second has been silent since it began, the first since it spoke.
    expect(s.news()).toEqual(['10 1', '60 2'])
    s.at(121)
    expect(s.news()).toEqual(['70 1', '120 2'])
    expect(JSON.parse(s.payloads.at(-1)!)).toMatchObject({ temp: 20, burner: false })
  })

  it('that the clock is set by an hour, either way, changes nothing', () => {
    for (const by of [HOUR, -HOUR]) {
      const s = begin({ kind: 'change' }, { mostS: 10, leastS: 60 })
      s.at(10)
      s.news()
      s.set({ 1: 30 })
      s.clock.set += by
      s.set({ 1: 40 })
      s.at(100)
      expect(s.news()).toEqual(['10 1', '20 1', '60 2', '80 1'])
    }
  })
})

describe('every N', () => {
  it('from the go-live on', () => {
    const s = begin({ kind: 'every', seconds: 10 })
    s.at(25)
    expect(s.news()).toEqual(['0 1', '0 2', '10 1', '10 2', '20 1', '20 2'])
  })

  it('not at first, if so chosen', () => {
    const s = begin({ kind: 'every', seconds: 10 }, { first: false })
    s.at(15)
    expect(s.news()).toEqual(['10 1', '10 2'])
  })

  it('aligned to the clock, with a phase; first at once only if so chosen', () => {
    const trigger: Trigger = { kind: 'every', seconds: 60, aligned: true, phaseS: 5 }
    const epoch = Date.UTC(2026, 10, 29, 12, 0, 50)
    const s = begin(trigger, undefined, { epoch })
    s.at(140)
    expect(s.news().filter((x) => x.endsWith(' 1'))).toEqual(['15 1', '75 1', '135 1'])
    const first = begin(trigger, { first: true }, { epoch })
    first.at(20)
    expect(first.news().filter((x) => x.endsWith(' 1'))).toEqual(['0 1', '15 1'])
  })

  it.each([HOUR, -HOUR, 90_000])('aligned, on a clock that is set by %d ms: none is doubled, none left out', (by) => {
    const s = begin({ kind: 'every', seconds: 60, aligned: true }, undefined, { epoch: Date.UTC(2026, 10, 29, 12, 0, 50) })
    s.at(100)
    s.clock.set += by
    s.at(600)
    const times = s
      .news()
      .filter((x) => x.endsWith(' 1'))
      .map((x) => Number(x.split(' ')[0]))
    expect(times.length).toBeGreaterThanOrEqual(9)
    expect(times.length).toBeLessThanOrEqual(11)
    for (const [i, t] of times.entries()) if (i > 0) expect(t - times[i - 1]!).toBeLessThan(90)
    // On the clock again.
    expect((s.clock.wall() - s.clock.now + times.at(-1)! * 1000) % 60_000).toBe(0)
  })

  it('at most every 25 s on top of it', () => {
    const s = begin({ kind: 'every', seconds: 10 }, { mostS: 25 })
    s.at(60)
    expect(s.news().filter((x) => x.endsWith(' 1'))).toEqual(['0 1', '25 1', '50 1'])
  })
})

describe('on a condition', () => {
  const hot: Trigger = { kind: 'when', condition: 'temp > 100', on: 'begin' }

  it('speaks once when it begins to hold, each for itself', () => {
    const s = begin(hot)
    expect(s.news()).toEqual([])
    s.set({ 1: 101 })
    s.set({ 1: 110 })
    s.set({ 3: 200 })
    s.set({ 1: 90 })
    s.set({ 1: 101 })
    expect(s.news()).toEqual(['0 1', '0 2', '0 1'])
  })

  it('that held when it began is no beginning, unless so chosen', () => {
    const quiet = begin(hot, undefined, { values: false })
    quiet.set({ 1: 120, 2: false, 3: 20, 4: false })
    expect(quiet.news()).toEqual([])
    quiet.set({ 1: 90 })
    quiet.set({ 1: 120 })
    expect(quiet.news()).toEqual(['0 1'])
    const loud = begin(hot, { first: true }, { values: false })
    loud.set({ 1: 120, 2: false, 3: 20, 4: false })
    expect(loud.news()).toEqual(['0 1'])
  })

  it('has to hold without a break for as long as is said', () => {
    const s = begin({ ...hot, holdS: 10 })
    s.set({ 1: 101 })
    s.at(8)
    s.set({ 1: 99 })
    s.at(9)
    s.set({ 1: 101 })
    s.at(18)
    expect(s.news()).toEqual([])
    s.at(30)
    expect(s.news()).toEqual(['19 1'])
  })

  it('of what has had no first value yet waits for it, and is not said when it is over by then', () => {
    const s = begin({ ...hot, holdS: 5 }, { first: true }, { values: false })
    s.set({ 1: 120, 3: 120 })
    s.at(10)
    expect(s.news()).toEqual([])
    s.set({ 3: 20 })
    s.set({ 2: true, 4: true })
    expect(s.news()).toEqual(['10 1'])
  })

  it('is over when something else says so: it does not begin again in between', () => {
    const s = begin({ ...hot, until: 'temp < 80' })
    for (const t of [101, 95, 101, 85, 101]) s.set({ 1: t })
    expect(s.news()).toEqual(['0 1'])
    for (const t of [79, 101]) s.set({ 1: t })
    expect(s.news()).toEqual(['0 1'])
  })

  it('a value that is bad neither begins nor ends it', () => {
    const s = begin(hot)
    s.set({ 1: 101 })
    s.set({ 1: 101 }, Status.deviceFailure)
    s.set({ 1: 102 })
    expect(s.news()).toEqual(['0 1'])
  })

  it('while it holds, each change; and at least every so often', () => {
    const s = begin({ ...hot, on: 'while' })
    s.set({ 1: 90 })
    s.set({ 1: 101 })
    s.set({ 1: 101.2 })
    s.set({ 1: 110 })
    s.set({ 1: 90 })
    s.set({ 1: 91 })
    expect(s.news()).toEqual(['0 1', '0 1'])
  })

  it('over several members, with names that expressions cannot have', () => {
    const found = conditionOf({ condition: 'motor_speed > 1.0 && burner', until: '' }, [
      { key: 'motor.speed', dataType: 'number', fill: fill(1) },
      { key: 'burner', dataType: 'boolean', fill: fill(2) },
    ])
    expect(found).toMatchObject({ when: { inputs: [{ name: 'motor_speed' }, { name: 'burner' }] } })
  })

  it.each([
    ['temp >', /.+/],
    ['temperature > 1.0', /temperature/],
    ['temp + 1.0', /compare it with something/],
  ])('%s is refused with what is wrong', (condition, says) => {
    const found = conditionOf({ condition, until: '' }, [{ key: 'temp', dataType: 'number', fill: fill(1) }])
    expect('problem' in found ? found.problem : '').toMatch(says)
  })
})

describe('by schedule', () => {
  const trigger: Trigger = { kind: 'schedule', cron: '0 * * * *', zone: 'UTC' }
  const epoch = Date.UTC(2026, 10, 29, 12, 50)
  const hours = (said: string[]) => said.filter((x) => x.endsWith(' 1')).map((x) => Number(x.split(' ')[0]) / 60)

  it('speaks at its times', () => {
    const s = begin(trigger, undefined, { epoch })
    s.at(3 * 3600)
    expect(hours(s.news())).toEqual([10, 70, 130])
  })

  it('a clock that is set forward past a time makes up for it once, and at once', () => {
    const s = begin(trigger, undefined, { epoch })
    s.at(300)
    s.clock.set += 2 * HOUR
    s.at(3600)
    const said = hours(s.news())
    // 14:55 by the clock then: within seconds what was left out, and 15:00.
    expect(said).toHaveLength(2)
    expect(said[0]! - 5).toBeLessThan(0.5)
    expect(said[1]).toBe(10)
  })

  it('a clock that is set back says nothing a second time', () => {
    const s = begin(trigger, undefined, { epoch })
    s.at(1200)
    expect(hours(s.news())).toEqual([10])
    s.clock.set -= HOUR
    s.at(3 * 3600)
    // 13:00 comes again and was said; 14:00 is next.
    expect(hours(s.news())).toEqual([130])
  })
})

describe('on an event', () => {
  it('a value that comes in: also one that is the same, once for each time, and nothing at first unless so chosen', () => {
    const s = begin({ kind: 'event', of: 'value' })
    expect(s.news()).toEqual([])
    s.set({ 1: 20 })
    s.set({ 1: 20, 2: false })
    s.set({ 3: 20 }, Status.deviceFailure)
    expect(s.news()).toEqual(['0 1', '0 1', '0 2'])
    // What moves by itself, or is looked at again, is no value that came in.
    s.at(100)
    s.due.changed()
    expect(s.news()).toEqual([])
    expect(begin({ kind: 'event', of: 'value' }, { first: true }, { values: false }).news()).toEqual([])
  })

  it('of some members only; of what has no first value yet as soon as it has', () => {
    const s = begin({ kind: 'event', of: 'value', member: 'burner' }, undefined, { speaking: [2, 4], values: false })
    s.set({ 2: true, 4: true })
    expect(s.news()).toEqual([])
    s.set({ 1: 30 })
    expect(s.news()).toEqual(['0 1'])
    s.set({ 1: 40, 3: 40 })
    expect(s.news()).toEqual(['0 2'])
    s.set({ 1: 50 })
    s.set({ 4: true })
    expect(s.news()).toEqual(['0 2'])
  })

  it('at most every 10 s: what comes in sooner goes then', () => {
    const s = begin({ kind: 'event', of: 'value' }, { mostS: 10 })
    s.at(100)
    s.set({ 1: 20 })
    s.at(103)
    s.set({ 1: 20 })
    s.set({ 1: 20 })
    s.at(160)
    expect(s.news()).toEqual(['100 1', '110 1'])
  })

  it('a record: only what it gave makes it speak, all go along', () => {
    const s = begin({ kind: 'event', of: 'record' }, undefined, { speaking: [2, 4] })
    s.news()
    s.set({ 1: 90 })
    s.set({ 2: false })
    expect(s.news()).toEqual([])
    s.set({ 2: true })
    expect(s.news()).toEqual(['0 1'])
    expect(JSON.parse(s.payloads.at(-1)!)).toMatchObject({ temp: 90, burner: true })
    const silent = begin({ kind: 'event', of: 'record' }, { first: false }, { speaking: [2, 4] })
    expect(silent.news()).toEqual([])
    silent.set({ 2: true })
    expect(silent.news()).toEqual(['0 1'])
  })

  it('equipment that joins: each once as soon as it has its values, over starts and versions; back after it was gone it joins again', () => {
    const joins = { kind: 'event' as const, of: 'joined' as const }
    const s = begin(joins, undefined, { values: false })
    expect(s.news()).toEqual([])
    s.set({ 1: 20, 2: false })
    s.set({ 1: 30 })
    expect(s.news()).toEqual(['0 1'])
    const kept = s.due.memory()
    expect(kept.size).toBe(1)
    const again = begin(joins, undefined, { kept })
    again.due.changed()
    again.set({ 1: 99 })
    expect(again.due.memory().size).toBe(2)
    // Nothing of what takes part no more is kept.
    const other = begin(joins, undefined, { kept: new Map([['joined gone', '1']]) })
    expect([...other.due.memory().keys()]).not.toContain('joined gone')
    // At first not: what is there is known, and what comes is told.
    const first = begin(joins, { first: false })
    first.set({ 1: 40 })
    expect(first.news()).toEqual([])
    expect(first.due.memory().size).toBe(2)
    const later = begin(joins, { first: false }, { kept, values: false })
    later.set({ 1: 1, 2: true, 3: 1, 4: true })
    expect(later.news()).toEqual(['0 2'])
  })
})

describe('by hand', () => {
  it('speaks only when somebody asks, all of it, whatever the pace', () => {
    const s = begin({ kind: 'hand' }, { mostS: 100 })
    s.set({ 1: 50 })
    s.at(50)
    expect(s.news()).toEqual([])
    expect(s.due.byHand()).toBe(2)
    expect(s.due.byHand()).toBe(2)
    expect(s.news()).toEqual(['50 1', '50 2', '50 1', '50 2'])
  })
})

it('that has ended speaks no more, whatever was under way', () => {
  const s = begin({ kind: 'when', condition: 'temp > 100', on: 'begin', holdS: 5 }, { leastS: 20, mostS: 10 })
  s.set({ 1: 101 })
  s.due.stop()
  s.at(1000)
  expect(s.news()).toEqual([])
  const aligned = begin({ kind: 'every', seconds: 60, aligned: true })
  aligned.due.stop()
  aligned.at(1000)
  expect(aligned.news()).toEqual([])
})
