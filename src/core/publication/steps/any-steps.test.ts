import { expect, it } from 'vitest'
import { Step } from '~/contract/step'
import { planOf } from '../../shape/shape-samples'
import { chance } from '../../value/chance'
import type { Scalar } from '../../value/deadband'
import { Status } from '../../value/quality'
import { Runner } from '../runner'
import { applySteps } from './apply'
import { type StepInput, T, Values, zone, zoneHandles } from './step-samples'

const next = chance(20261130)
const one = <X>(all: readonly X[]): X => all[Math.floor(next() * all.length)]!
const keys = [
  'temperature',
  'setpoint',
  'burning',
  'program',
  'cars',
  'probes',
  'probes.0.wet',
  'probes.1',
  'other',
  'a.b',
  'temperature.mean',
  '__proto__',
  'constructor',
]
const expressions = [
  'temperature + 1.0',
  'setpoint * 2',
  'burning',
  '"x"',
  'now()',
  'temperature / 0.0',
  'previous(temperature)',
  'program + "!"',
  'nothing',
  '((',
  '1.0 < 2.0',
  'cars > 3.0 && burning',
]
const table = {
  columns: ['key', 'crew', 'n'],
  rows: [
    ['P12', 'day', '1'],
    ['4', 'night', '2.5'],
    ['__proto__', '', ''],
  ],
}

/** Any step at all, right or wrong. */
function anyStep(): StepInput {
  const members = [one(keys), one(keys)]
  return one<() => StepInput>([
    () => ({ kind: 'keep', condition: one(expressions), unknown: one(['pass', 'drop']) }),
    () => ({ kind: 'drop', condition: one(expressions), unknown: one(['pass', 'drop']) }),
    () => ({ kind: 'repeats' }),
    () => ({ kind: 'set', member: one(keys), expression: one(expressions) }),
    () => ({ kind: 'rename', member: one(keys), to: one(keys) }),
    () => ({ kind: 'leave', members, but: next() < 0.3 }),
    () => ({
      kind: 'convert',
      member: one(keys),
      ...(next() < 0.5 && { unit: one(['°F', 'K', 'bar', '%']) }),
      ...(next() < 0.5 && { dataType: one(['number', 'integer', 'text', 'boolean', 'time']) }),
    }),
    () => ({
      kind: 'lookup',
      member: one(keys),
      table,
      ...(next() < 0.5 && { under: one(keys) }),
      ...(next() < 0.5 && { otherwise: one(['0', 'x']) }),
    }),
    () => ({
      ...{ kind: 'record', member: one(keys), sourceId: '01890000-0000-7000-8000-000000000001' },
      columns: [{ name: one(keys), dataType: one(['number', 'text']) }],
      ...(next() < 0.5 && { under: one(keys) }),
    }),
    () => ({ kind: 'smooth', members, seconds: 5 }),
    () => ({ kind: 'bridge', members, by: one(['last', 'line']) }),
    () => ({ kind: 'split', member: one(keys), ...(next() < 0.5 && { as: one(keys) }) }),
    () => ({
      ...{ kind: 'window', seconds: 5, by: one(['last', 'average', 'least', 'most', 'sum', 'each']) },
      ...(next() < 0.5 && { count: one(keys) }),
      ...(next() < 0.5 && { messages: 1 + Math.floor(next() * 4) }),
      ...(next() < 0.3 && { key: one(keys) }),
    }),
    () => ({ kind: 'script', code: 'return message', gives: next() < 0.5 ? [{ member: one(keys), dataType: one(['number', 'text']) }] : [] }),
  ])()
}

const values: Scalar[] = [
  0,
  -0,
  640.5,
  Number.MAX_VALUE,
  5e-324,
  2n ** 63n,
  null,
  true,
  'P12',
  '',
  '\u2028"{}\\',
  '\ud800',
  '__proto__',
  Number.NaN,
  Number.POSITIVE_INFINITY,
]

it('whatever the steps are, what is wrong is told, and what is right gives messages of the members that it says', { timeout: 120_000 }, () => {
  let right = 0
  for (let round = 0; round < 1500; round++) {
    const steps = Array.from({ length: 1 + Math.floor(next() * 6) }, () => Step.parse(anyStep()))
    const equipment = [zone('Zone 1', 0), zone('Zone 2', zoneHandles)]
    const applied = applySteps(steps, equipment)
    for (const p of applied.problems) expect(p.message).not.toMatch(/undefined|\[object|NaN/)
    for (const { members } of applied.equipment) {
      const all = members.map((m) => m.key)
      if (applied.problems.length === 0) expect(new Set(all).size, JSON.stringify(steps)).toBe(all.length)
      if (applied.problems.length === 0)
        for (const a of all) for (const b of all) expect(b.startsWith(`${a}.`), `${a} and ${b}: ${JSON.stringify(steps)}`).toBe(false)
    }
    if (applied.problems.length > 0 || applied.stages.length > 0 || applied.equipment.some((e) => e.members.length === 0)) continue
    right++
    const plan = planOf(
      { kind: 'flat-json' },
      applied.equipment.map((a) => ({ ...equipment[a.from]!, members: a.members })),
    )
    const runner = new Runner({
      ...plan,
      tables: applied.tables,
      lookups: applied.lookups,
      messages: plan.messages.map((m, n) => ({ ...m, gates: applied.equipment[n]!.gates })),
    })
    const table = new Values()
    let seq = 0
    for (let turn = 0; turn < 6; turn++) {
      const now = T + turn * 1000
      for (let h = 0; h < zoneHandles * 2; h++) {
        if (turn > 0 && next() < 0.5) continue
        const value = one(values)
        table.set(h, value, next() < 0.1 ? -1 : now, value === null ? Status.communication : one([Status.good, Status.stale, Status.timeout]))
        runner.touch(h)
      }
      const rows = { P12: { temperature: one(values) }, true: { 'a b': 1 } }
      for (const i of applied.lookups.keys()) runner.answered(i, { document: one([rows, {}, null, undefined]), lost: one([null, 'gone']) })
      runner.touchTimed()
      for (const n of runner.drain(table, now)) {
        const sent = runner.encode(n, now, ++seq)
        if (!sent) continue
        const message = JSON.parse(sent.payload as string) as Record<string, unknown>
        const named = new Set(['at', 'quality', ...plan.equipment[n]!.members.map((m) => m.key)])
        for (const key of Object.keys(message)) expect(named.has(key), `${key}: ${JSON.stringify(steps)}`).toBe(true)
      }
    }
    // What is kept is taken back as it was.
    const kept = runner.memory()
    runner.remember(kept)
    expect(runner.memory()).toEqual(kept)
  }
  expect(right).toBeGreaterThan(80)
})
