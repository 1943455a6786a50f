import { describe, expect, it } from 'vitest'
import type { PlanEquipment } from '~/contract/publication'
import { Step } from '~/contract/step'
import type { Scalar } from '../../value/deadband'
import { Status } from '../../value/quality'
import { Runner } from '../runner'
import { applySteps } from './apply'
import { allTags, tagsBehind } from './behind'
import { planWith, type StepInput, T, Values, zone, zoneHandles } from './step-samples'

function begin(steps: StepInput[], equipment?: PlanEquipment[]) {
  const plan = planWith(steps, equipment)
  const runner = new Runner(plan)
  const values = new Values()
  for (let h = 0; h < zoneHandles; h++) values.set(h, [640, 650, true, 'P12', 4, 18, 21][h]!)
  let now = T
  let seq = 0
  const look = (all = false) => {
    const ready = all ? runner.all(values, now) : runner.drain(values, now)
    return ready.flatMap((n) => {
      const sent = runner.encode(n, now, seq + 1, all)
      if (sent) seq++
      return sent ? [JSON.parse(sent.payload as string) as Record<string, unknown>] : []
    })
  }
  for (const h of runner.handles) runner.touch(h)
  return {
    plan,
    runner,
    values,
    look,
    /** Sets tags, and gives what is said then. */
    say(part: Record<number, Scalar>, afterMs = 1000, status: number = Status.good) {
      now += afterMs
      for (const [h, v] of Object.entries(part)) {
        values.set(Number(h), v, now, status)
        runner.touch(Number(h))
      }
      return look()
    },
    later(ms: number, all = false) {
      now += ms
      runner.touchTimed()
      return look(all)
    },
  }
}

const wrong = (step: StepInput, equipment = [zone('Zone 1', 0)]) => applySteps([Step.parse(step)], equipment).problems.map((p) => p.message)

describe('steps that make members', () => {
  it('sets a member to an expression over the others, with the worst quality and the newest time of what is in it', () => {
    const s = begin([{ kind: 'set', member: 'deviation', expression: 'temperature - setpoint', unit: 'K' }])
    expect(s.look()).toMatchObject([{ temperature: 640, deviation: -10 }])
    expect(s.say({ 0: 655 })).toMatchObject([{ deviation: 5 }])
    const { cellsOfEquipment } = s.runner
    expect(cellsOfEquipment[0]!.at(-1)).toMatchObject({ value: 5, status: Status.good, time: T + 1000 })
    s.say({ 1: 650 }, 1000, Status.stale)
    expect(cellsOfEquipment[0]!.at(-1)).toMatchObject({ value: 5, status: Status.stale, time: T + 2000 })
    s.say({ 1: null }, 1000, Status.communication)
    expect(cellsOfEquipment[0]!.at(-1)).toMatchObject({ value: null, status: Status.communication })
  })

  it('replaces a member in its place, with its unit, and builds one step on the other', () => {
    const s = begin([
      { kind: 'set', member: 'temperature', expression: 'temperature + 0.5' },
      { kind: 'set', member: 'twice', expression: 'temperature * 2' },
    ])
    expect(s.plan.equipment[0]!.members.map((m) => [m.key, m.unit])).toContainEqual(['temperature', '°C'])
    expect(Object.keys(s.look()[0]!).filter((k) => k === 'temperature' || k === 'twice')).toEqual(['temperature', 'twice'])
    expect(s.say({ 0: 100 })).toMatchObject([{ temperature: 100.5, twice: 201 }])
  })

  it('takes expressions that read nothing for what they are', () => {
    const s = begin([
      { kind: 'set', member: 'line', expression: '"K" + "1"' },
      { kind: 'set', member: 'at', expression: 'now()' },
      { kind: 'keep', condition: '1.0 < 2.0' },
    ])
    expect(s.look()).toMatchObject([{ line: 'K1', at: '2026-03-04T14:07:12.000Z' }])
    expect(s.say({ 0: 641 })).toHaveLength(1)
    expect(begin([{ kind: 'drop', condition: 'true', unknown: 'pass' }]).look()).toEqual([])
  })

  it('renames a member, and all under it', () => {
    const s = begin([
      { kind: 'rename', member: 'probes', to: 'moisture' },
      { kind: 'rename', member: 'temperature', to: 'air.temperature' },
    ])
    expect(s.plan.equipment[0]!.members.map((m) => m.key)).toEqual([
      'air.temperature',
      'setpoint',
      'burning',
      'program',
      'cars',
      'moisture.0.wet',
      'moisture.1.wet',
    ])
  })

  it('leaves members out, or all but some', () => {
    const keys = (steps: StepInput[]) => planWith(steps).equipment[0]!.members.map((m) => m.key)
    expect(keys([{ kind: 'leave', members: ['probes', 'program'] }])).toEqual(['temperature', 'setpoint', 'burning', 'cars'])
    expect(keys([{ kind: 'leave', members: ['probes', 'program'], but: true }])).toEqual(['program', 'probes.0.wet', 'probes.1.wet'])
    // What is left out makes nothing speak.
    const s = begin([{ kind: 'leave', members: ['temperature'] }])
    s.look()
    expect(s.say({ 0: 700 })).toEqual([])
    expect(s.say({ 1: 700 })).toHaveLength(1)
  })

  it.each([
    [{ member: 'temperature', unit: '°F' }, { 0: 100 }, { temperature: 212 }],
    [{ member: 'temperature', dataType: 'integer' }, { 0: 100.6 }, { temperature: 101 }],
    [{ member: 'temperature', dataType: 'text' }, { 0: 100.5 }, { temperature: '100.5' }],
    [{ member: 'burning', dataType: 'number' }, { 2: true }, { burning: 1 }],
    [{ member: 'program', dataType: 'number' }, { 3: ' 12.5 ' }, { program: 12.5 }],
    [{ member: 'program', dataType: 'boolean' }, { 3: 'On' }, { program: true }],
    [{ member: 'program', dataType: 'number' }, { 3: 'P12' }, { program: null }],
    [{ member: 'program', dataType: 'number' }, { 3: '' }, { program: null }],
    [{ member: 'cars', dataType: 'time' }, { 4: 1_000 }, { cars: '1970-01-01T00:00:01.000Z' }],
    [{ member: 'cars', dataType: 'time' }, { 4: 9e15 }, { cars: null }],
    [{ member: 'cars', dataType: 'number' }, { 4: 2n ** 60n }, { cars: 2 ** 60 }],
  ] as const)('converts %j', (step, part, expected) => {
    const s = begin([{ kind: 'convert', ...step }])
    s.look()
    expect(s.say({ 0: 1, ...part } as Record<number, Scalar>)).toMatchObject([expected])
  })

  it('converts a range with its member', () => {
    expect(planWith([{ kind: 'convert', member: 'temperature', unit: '°F' }]).equipment[0]!.members[0]).toMatchObject({
      unit: '°F',
      range: { low: 32, high: 2192 },
    })
  })

  const table = {
    columns: ['program', 'glaze', 'peak', 'salt', '__proto__'],
    rows: [
      ['P12', 'celadon', '1280', 'false', 'x'],
      ['constructor', '', '990', 'true', 'y'],
    ],
  }
  it('looks up what a table has, each column in its own type', () => {
    const s = begin([{ kind: 'lookup', member: 'program', table }])
    expect(s.look()).toMatchObject([{ glaze: 'celadon', peak: 1280, salt: false }])
    expect(s.plan.equipment[0]!.members.slice(-4).map((m) => [m.key, m.dataType])).toEqual([
      ['glaze', 'text'],
      ['peak', 'number'],
      ['salt', 'boolean'],
      ['__proto__', 'text'],
    ])
    // An empty place has no value; what is not there has none, or the one that was chosen.
    expect(s.say({ 3: 'constructor' })).toMatchObject([{ glaze: null, peak: 990 }])
    expect(s.say({ 3: 'toString' })).toMatchObject([{ glaze: null, peak: null, salt: null }])
    const other = begin([
      {
        kind: 'lookup',
        member: 'program',
        table: { columns: ['program', 'glaze'], rows: [['P12', 'celadon']] },
        under: 'recipe',
        otherwise: 'unknown',
      },
    ])
    expect(other.look()).toMatchObject([{ 'recipe.glaze': 'celadon' }])
    expect(other.say({ 3: 'P99' })).toMatchObject([{ 'recipe.glaze': 'unknown' }])
  })

  it('looks numbers up by how they read', () => {
    const s = begin([
      {
        kind: 'lookup',
        member: 'cars',
        table: {
          columns: ['cars', 'crew'],
          rows: [
            ['4', 'two'],
            ['5', 'three'],
          ],
        },
      },
    ])
    expect(s.look()).toMatchObject([{ crew: 'two' }])
    expect(s.say({ 4: 5 })).toMatchObject([{ crew: 'three' }])
  })

  it('splits a list into a message for each item', () => {
    const equipment = [zone('Zone 1', 0)]
    const applied = applySteps([Step.parse({ kind: 'split', member: 'probes', as: 'probe' })], equipment)
    expect(applied.equipment.map((e) => e.members.map((m) => m.key))).toEqual(
      [1, 2].map(() => ['temperature', 'setpoint', 'burning', 'program', 'cars', 'probe', 'wet']),
    )
    const s = begin([
      { kind: 'leave', members: ['probes'], but: true },
      { kind: 'split', member: 'probes', as: 'probe' },
    ])
    expect(s.look()).toMatchObject([
      { probe: 1, wet: 18 },
      { probe: 2, wet: 21 },
    ])
    expect(s.say({ 6: 22 })).toMatchObject([{ probe: 2, wet: 22 }])
  })
})

describe('steps that remember', () => {
  it('smooths like a first-order filter, and goes on while nothing changes', () => {
    const s = begin([
      { kind: 'smooth', members: ['temperature'], seconds: 10 },
      { kind: 'leave', members: ['temperature'], but: true },
    ])
    expect(s.look()).toMatchObject([{ temperature: 640 }])
    // At the moment of a step nothing has moved yet.
    expect(s.say({ 0: 740 })).toEqual([])
    const [first] = s.later(10_000)
    expect(first!.temperature).toBeCloseTo(640 + 100 * (1 - Math.exp(-1)), 6)
    const [second] = s.later(10_000)
    expect(second!.temperature).toBeCloseTo(640 + 100 * (1 - Math.exp(-2)), 6)
    s.later(1_000_000)
    // It has arrived, and says no more.
    expect(s.later(10_000)).toEqual([])
  })

  it('holds a smoothed value while its input is bad, and when the clock is set back', () => {
    const s = begin([
      { kind: 'smooth', members: ['temperature'], seconds: 10 },
      { kind: 'leave', members: ['temperature'], but: true },
    ])
    s.look()
    s.say({ 0: 740 })
    s.later(10_000)
    expect(s.say({ 0: null }, 0, Status.communication)).toMatchObject([{ temperature: null }])
    const [back] = s.say({ 0: 740 }, -3_600_000)
    expect(back!.temperature).toBeCloseTo(640 + 100 * (1 - Math.exp(-1)), 6)
  })

  it('bridges a gap with the last good value, as long as it may', () => {
    const s = begin([{ kind: 'bridge', members: ['temperature'], by: 'last', seconds: 30 }])
    s.look()
    s.say({ 0: null }, 1000, Status.communication)
    const cell = s.runner.cellsOfEquipment[0]![0]!
    expect(cell).toMatchObject({ value: 640, status: Status.lastUsable, time: T })
    expect(s.later(31_000)).toMatchObject([{ temperature: null }])
    expect(cell.status).toBe(Status.communication)
    expect(s.say({ 0: 641 })).toMatchObject([{ temperature: 641 }])
  })

  it('bridges a gap along the line through the last two', () => {
    const s = begin([{ kind: 'bridge', members: ['temperature'], by: 'line' }])
    s.look()
    s.say({ 0: 650 }, 10_000)
    s.say({ 0: null }, 10_000, Status.communication)
    expect(s.runner.cellsOfEquipment[0]![0]).toMatchObject({ value: 660, status: Status.subNormal })
    expect(s.later(5_000)).toMatchObject([{ temperature: 665 }])
  })

  it('smooths the same for all that is made from it', () => {
    const s = begin([
      { kind: 'smooth', members: ['temperature'], seconds: 10 },
      { kind: 'set', member: 'again', expression: 'temperature + 0.0' },
    ])
    s.look()
    s.say({ 0: 740 })
    s.later(3000)
    s.say({ 1: 600 })
    const [one, again] = [s.runner.cellsOfEquipment[0]![0]!, s.runner.cellsOfEquipment[0]!.at(-1)!]
    expect(one.value).toBe(again.value)
  })
})

describe('steps that hold messages back', () => {
  it('keeps what a condition holds for, and says what was held back as soon as it does', () => {
    const s = begin([
      { kind: 'keep', condition: 'burning' },
      { kind: 'leave', members: ['burning'] },
    ])
    expect(s.look()).toHaveLength(1)
    expect(s.say({ 2: false })).toEqual([])
    expect(s.say({ 0: 700 })).toEqual([])
    // Nothing that is sent changes here, but what changed before was not said.
    expect(s.say({ 2: true })).toMatchObject([{ temperature: 700 }])
    expect(s.say({ 2: false })).toEqual([])
    expect(s.say({ 2: true })).toEqual([])
    expect(s.runner.stepCounts).toEqual([{ step: 0, passed: 2, held: 1 }])
  })

  it.each([
    ['keep', 'pass', 1],
    ['keep', 'drop', 0],
    ['drop', 'pass', 1],
    ['drop', 'drop', 0],
  ] as const)('%s with no answer: %s', (kind, unknown, count) => {
    const s = begin([{ kind, condition: 'temperature > 80.0', unknown }])
    s.look()
    expect(s.say({ 0: null }, 1000, Status.communication)).toHaveLength(count)
  })

  it('drops what a condition holds for', () => {
    const s = begin([{ kind: 'drop', condition: 'temperature > 650.0 && burning' }])
    expect(s.look()).toHaveLength(1)
    expect(s.say({ 0: 700 })).toEqual([])
    expect(s.say({ 0: 600 })).toHaveLength(1)
  })

  it('drops repeats, but not what has to be said after a long silence', () => {
    const s = begin([{ kind: 'repeats' }])
    expect(s.look()).toHaveLength(1)
    const n = s.runner.all(s.values, T)
    expect(n.map((i) => s.runner.encode(i, T, 2))).toEqual([null])
    expect(n.map((i) => s.runner.encode(i, T, 2, true))).not.toContain(null)
    s.values.set(0, 641)
    s.runner.touch(0)
    expect(s.look()).toHaveLength(1)
    expect(s.runner.stepCounts).toEqual([{ step: 0, passed: 3, held: 1 }])
  })

  it('asks each step in its place', () => {
    const s = begin([
      { kind: 'keep', condition: 'temperature > 0.0' },
      { kind: 'set', member: 'temperature', expression: '0.0 - temperature' },
      { kind: 'keep', condition: 'temperature < 0.0' },
    ])
    expect(s.look()).toMatchObject([{ temperature: -640 }])
  })
})

describe('what is wrong with a step', () => {
  it.each([
    [{ kind: 'keep', condition: 'temprature > 80.0' }, 'temprature is not known'],
    [{ kind: 'keep', condition: 'temperature + 1.0' }, 'compare it with something'],
    [{ kind: 'set', member: 'x', expression: 'program * 2' }, 'does not work'],
    [{ kind: 'set', member: 'probes', expression: '1.0' }, 'probes has members of its own already'],
    [{ kind: 'set', member: 'temperature.mean', expression: '1.0' }, 'temperature is a value'],
    [{ kind: 'rename', member: 'temperature', to: 'setpoint' }, 'there is a member setpoint already'],
    [{ kind: 'rename', member: 'nothing', to: 'other' }, 'No equipment has nothing here'],
    [{ kind: 'leave', members: ['temperature', 'setpoint', 'burning', 'program', 'cars', 'probes'] }, 'nothing would be left'],
    [{ kind: 'convert', member: 'temperature', unit: 'bar' }, 'does not become bar'],
    [{ kind: 'convert', member: 'temperature', unit: '°F', dataType: 'text' }, 'only numbers'],
    [{ kind: 'smooth', members: ['program'], seconds: 5 }, 'program is text, and not a number'],
    [{ kind: 'split', member: 'temperature' }, 'No equipment has temperature here'],
    [{ kind: 'window', seconds: 10, by: 'average', count: 'cars' }, 'there is a member cars already'],
    [{ kind: 'window', seconds: 10, by: 'average', key: 'batch' }, 'there is no member batch'],
    [{ kind: 'window', seconds: 10, by: 'each' }, 'after how many messages'],
    [{ kind: 'window', seconds: 10, by: 'each', messages: 400 }, 'are more than 2000 in one message'],
    [{ kind: 'window', seconds: 10, by: 'each', messages: 2, count: 'cars' }, 'there is a member cars already'],
    [{ kind: 'lookup', member: 'program', table: { columns: ['program', 'peak'], rows: [['P1', '12']] }, otherwise: 'none' }, 'is no number'],
  ] as const)('%j', (step, words) => {
    expect(wrong(step).join()).toContain(words)
  })

  it('is told once for all equipment that it is so for', () => {
    const found = wrong({ kind: 'keep', condition: 'pressure > 1.0' }, [zone('Zone 1', 0), zone('Zone 2', 10)])
    expect(found).toHaveLength(1)
    expect(found[0]).toContain('Zone 1')
    expect(found[0]).toContain('Zone 2')
  })

  it.each([
    [{ kind: 'set', member: '', expression: '1' }, 'Which member?'],
    [{ kind: 'set', member: 'a b', expression: '1' }, 'Letters, digits and _'],
    [{ kind: 'lookup', member: 'a', table: { columns: ['a', 'b'], rows: [['1', '2'], ['1']] } }, 'Row 2 has 1 values for 2 columns'],
    [
      {
        kind: 'lookup',
        member: 'a',
        table: {
          columns: ['a', 'b'],
          rows: [
            ['1', '2'],
            ['1', '3'],
          ],
        },
      },
      'Row 2 is for 1, as row 1 is',
    ],
    [{ kind: 'smooth', members: [], seconds: 5 }, 'Which members?'],
    [{ kind: 'window', seconds: 0, by: 'average' }, 'At least 0.1 s'],
  ] as const)('as it is typed: %j', (step, words) => {
    const parsed = Step.safeParse(step)
    expect(parsed.success ? '' : parsed.error.issues.map((i) => i.message).join()).toContain(words)
  })
})

describe('what comes out of a window of lists', () => {
  it('is a list for each member, but for its key, and how many came', () => {
    const plan = planWith([{ kind: 'window', seconds: 10, by: 'each', messages: 2, key: 'program', count: 'came' }])
    const keys = plan.equipment[0]!.members.map((m) => m.key)
    expect(keys.slice(0, 4)).toEqual(['temperature.0', 'temperature.1', 'setpoint.0', 'setpoint.1'])
    expect(keys).toContain('program')
    expect(keys).toContain('probes.0.wet.1')
    expect(keys.at(-1)).toBe('came')
    expect(plan.equipment[0]!.members.map((m) => m.fill)).toEqual(keys.map((_, place) => ({ kind: 'row', place })))
  })
})

describe('tags behind a plan', () => {
  it('are found through every step that takes its time', () => {
    const plan = planWith([
      { kind: 'keep', condition: 'burning' },
      { kind: 'window', seconds: 10, by: 'average', count: 'gathered' },
      { kind: 'script', code: 'return message', gives: [{ member: 'score', dataType: 'number' }] },
      { kind: 'set', member: 'twice', expression: 'temperature * 2' },
    ])
    expect(allTags(plan).sort((a, b) => a - b)).toEqual([0, 1, 2, 3, 4, 5, 6])
    const behind = tagsBehind(plan)
    const of = (key: string) => [...behind(0, plan.equipment[0]!.members.find((m) => m.key === key)!.fill)]
    expect(of('temperature')).toEqual([0])
    expect(of('twice')).toEqual([0])
    expect(of('score').sort((a, b) => a - b)).toEqual([0, 1, 2, 3, 4, 5, 6])
  })
})
