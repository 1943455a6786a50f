import { describe, expect, it } from 'vitest'
import { Step } from '~/contract/step'
import type { Scalar } from '../../value/deadband'
import { qualityOf, Status } from '../../value/quality'
import { Runner } from '../runner'
import { applySteps } from './apply'
import { planWith, type StepInput, T, Values, zone, zoneHandles } from './step-samples'

const recipes = {
  kind: 'record' as const,
  member: 'program',
  sourceId: '01890000-0000-7000-8000-000000000001',
  at: '/recipes',
  columns: [
    { name: 'glaze', dataType: 'text' as const },
    { name: 'peak temp', dataType: 'number' as const, unit: '°C' },
  ],
}
const answer = (rows: Record<string, unknown>, lost: string | null = null) => ({ document: { recipes: rows }, lost })

function begin(steps: StepInput[], equipment = [zone('Zone 1', 0)]) {
  const plan = planWith(steps, equipment)
  const runner = new Runner(plan)
  const values = new Values()
  for (let h = 0; h < zoneHandles * equipment.length; h++) values.set(h, [640, 650, true, 'P12', 4, 18, 21][h % zoneHandles]!)
  for (const h of runner.handles) runner.touch(h)
  let now = T
  let seq = 0
  const look = () => {
    now += 1000
    return runner.drain(values, now).flatMap((n) => {
      const sent = runner.encode(n, now, seq + 1)
      if (sent) seq++
      return sent ? [JSON.parse(sent.payload as string) as Record<string, unknown>] : []
    })
  }
  return {
    plan,
    runner,
    look,
    answered: (a: Parameters<Runner['answered']>[1]) => {
      runner.answered(0, a)
      return look()
    },
    say: (handle: number, value: Scalar, status: number = Status.good) => {
      values.set(handle, value, now, status)
      runner.touch(handle)
      return look()
    },
    cell: (key: string) => {
      const at = plan.equipment[0]!.members.findIndex((m) => m.key === key)
      return runner.cellsOfEquipment[0]![at]!
    },
  }
}

describe('something looked up in the rows of a source', () => {
  it('comes with the message, which waits for the first answer and speaks when a row is another', () => {
    const s = begin([recipes])
    expect(s.plan.equipment[0]!.members.slice(-2).map((m) => [m.key, m.dataType, m.unit])).toEqual([
      ['glaze', 'text', ''],
      ['peak_temp', 'number', '°C'],
    ])
    expect(s.look()).toEqual([])
    expect(s.answered(answer({ P12: { glaze: 'celadon', 'peak temp': 1280 } }))).toMatchObject([
      { temperature: 640, glaze: 'celadon', peak_temp: 1280 },
    ])
    // The same answer again is no news; another row, or another column, neither.
    expect(s.answered(answer({ P12: { glaze: 'celadon', 'peak temp': 1280, more: 1 }, P13: { glaze: 'x' } }))).toEqual([])
    expect(s.answered(answer({ P12: { glaze: 'celadon', 'peak temp': 1285 } }))).toMatchObject([{ glaze: 'celadon', peak_temp: 1285 }])
    expect(s.say(3, 'P13')).toMatchObject([{ glaze: null, peak_temp: null }])
    expect([s.cell('glaze').status, s.cell('glaze').problem]).toEqual([Status.noData, ' has no P13'])
    expect(s.say(3, 'P12')).toMatchObject([{ glaze: 'celadon' }])
  })

  it('has the worse quality of the row and of what is looked up, and its time', () => {
    const s = begin([recipes])
    s.answered(answer({ P12: { glaze: 'celadon', 'peak temp': 'hot' } }))
    expect([qualityOf(s.cell('glaze').status), s.cell('glaze').time]).toEqual(['good', T])
    expect(s.cell('peak_temp').status).toBe(Status.typeMismatch)
    s.say(3, 'P12', Status.stale)
    expect(s.cell('glaze')).toMatchObject({ value: 'celadon', status: Status.stale })
    s.say(3, null, Status.communication)
    expect(s.cell('glaze')).toMatchObject({ value: null, status: Status.communication })
  })

  it('stays what it was while the source does not answer, or answers nonsense, and says so', () => {
    const s = begin([recipes])
    s.answered(answer({ P12: { glaze: 'celadon', 'peak temp': 1280 } }))
    expect(s.answered(answer({ P12: { glaze: 'celadon', 'peak temp': 1280 } }, 'no answer'))).toHaveLength(1)
    expect(s.cell('glaze')).toMatchObject({ value: 'celadon', status: Status.lastUsable, problem: ': no answer' })
    expect(s.answered({ document: { other: 1 }, lost: null })).toEqual([])
    expect(s.cell('glaze')).toMatchObject({ value: 'celadon', status: Status.lastUsable, problem: ': There is nothing at /recipes' })
    expect(s.answered(answer({ P12: { glaze: 'celadon', 'peak temp': 1280 } }))).toHaveLength(1)
    expect(s.cell('glaze')).toMatchObject({ status: Status.good, problem: null })
  })

  it('is bad where the source is known not to answer, and holds up nothing', () => {
    const s = begin([recipes])
    expect(s.answered({ document: undefined, lost: 'refused' })).toMatchObject([{ temperature: 640, glaze: null }])
    expect(s.cell('glaze')).toMatchObject({ status: Status.noCommunication, problem: ': refused' })
  })

  it('may be what a step after it goes by, a condition among them', () => {
    const s = begin([recipes, { kind: 'keep', condition: 'peak_temp > 1200.0', unknown: 'drop' }, { kind: 'leave', members: ['peak_temp'] }])
    expect(s.answered(answer({ P12: { glaze: 'raw', 'peak temp': 900 } }))).toEqual([])
    // What was held back goes when the row lets it.
    expect(s.answered(answer({ P12: { glaze: 'raw', 'peak temp': 1300 } }))).toMatchObject([{ glaze: 'raw' }])
  })

  it('stands under a name, for whole numbers too, of each equipment its own', () => {
    const under: StepInput = { ...recipes, member: 'cars', under: 'recipe' }
    const s = begin([under], [zone('Zone 1', 0), zone('Zone 2', zoneHandles)])
    expect(s.answered(answer({ 4: { glaze: 'a' }, 5: { glaze: 'b' } }))).toMatchObject([{ 'recipe.glaze': 'a' }, { 'recipe.glaze': 'a' }])
    expect(s.say(zoneHandles + 4, 5)).toMatchObject([{ 'recipe.glaze': 'b' }])
    expect(s.say(zoneHandles + 4, 9007199254740993n)).toMatchObject([{ 'recipe.glaze': null }])
  })

  it('is found again after a step that takes its time', () => {
    const plan = planWith([{ kind: 'window', seconds: 5, by: 'last' }, recipes])
    const runner = new Runner(plan)
    const values = new Values()
    for (let h = 0; h < zoneHandles; h++) values.set(h, [640, 650, true, 'P12', 4, 18, 21][h]!)
    for (const h of runner.handles) runner.touch(h)
    runner.answered(0, answer({ P12: { glaze: 'first' } }))
    const said = () => {
      for (const n of runner.drain(values, T)) {
        const row = runner.take(0, n, false, T)!
        runner.give(0, row, T)
        const sent = runner.encode(n, T, 1)
        if (sent) return (JSON.parse(sent.payload as string) as Record<string, unknown>).glaze
      }
      return 'nothing'
    }
    expect(said()).toBe('first')
    runner.answered(0, answer({ P12: { glaze: 'second' } }))
    values.set(0, 641)
    runner.touch(0)
    expect(said()).toBe('second')
  })
})

it('what is wrong with it is told: a member that none has, a name that is taken', () => {
  const wrong = (step: object) => applySteps([Step.parse({ ...recipes, at: '', ...step })], [zone('Zone 1', 0)]).problems.map((p) => p.message)
  expect(wrong({ member: 'nothing' })).toEqual(['No equipment has nothing here'])
  expect(wrong({ under: 'probes.0.wet' })[0]).toContain('probes.0.wet is a value, and can have no members')
})
