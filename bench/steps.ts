// What each step costs a message: from a tag change to the payload, with it and without it, in turns within one run.
import type { Plan, PlanEquipment, PlanMember } from '~/contract/publication'
import { Step } from '~/contract/step'
import { Runner } from '~/core/publication/runner'
import { applySteps } from '~/core/publication/steps/apply'
import { planOf } from '~/core/shape/shape-samples'
import { Sandbox } from '~/engine/scripts/sandbox'
import type { ScriptInput } from '~/engine/scripts/script'
import { median, show } from './common'

const MEMBERS = 12
const EQUIPMENT = 100
const ROUNDS = 7
const ROUND_MS = 80
const now = Date.UTC(2026, 2, 4, 14, 7, 12, 481)

const member = (e: number, i: number): PlanMember => ({
  key: `m${i}`,
  dataType: i === 11 ? 'text' : 'number',
  unit: i === 0 ? '°C' : '',
  fill: { kind: 'tag', handle: e * MEMBERS + i, width: 0, factor: 1, offset: 0 },
  label: `m${i}`,
  description: '',
  required: true,
  range: null,
  allowed: null,
  tag: '',
})
const equipment = Array.from(
  { length: EQUIPMENT },
  (_, e): PlanEquipment => ({
    id: `0197c1d2-0000-7000-8000-${String(e).padStart(12, '0')}`,
    name: `Zone ${e}`,
    level: 'work unit',
    path: ['Varnmoor', `Zone ${e}`],
    className: 'Kiln Zone',
    classVersion: 1,
    facts: {},
    members: Array.from({ length: MEMBERS }, (_, i) => member(e, i)),
  }),
)

/** A tag changes, its message is made: one turn. */
function turnOf(steps: Parameters<typeof Step.parse>[0][]): () => void {
  const parsed = steps.map((s) => Step.parse(s))
  const applied = applySteps(parsed, equipment)
  if (applied.problems.length > 0) throw new Error(applied.problems[0]!.message)
  const base = planOf(
    { kind: 'flat-json' },
    applied.equipment.map((a) => ({ ...equipment[a.from]!, members: a.members })),
  )
  const plan: Plan = {
    ...base,
    trigger: { kind: 'change' },
    tables: applied.tables,
    messages: base.messages.map((m, n) => ({ ...m, gates: applied.equipment[n]!.gates })),
  }
  const runner = new Runner(plan)
  const count = EQUIPMENT * MEMBERS
  const values = {
    value: Array.from({ length: count }, (_, h): number | string => (h % MEMBERS === 11 ? `P${h % 100}` : h)),
    status: new Uint32Array(count),
    time: new Float64Array(count).fill(now),
  }
  for (const h of runner.handles) runner.touch(h)
  let seq = 0
  for (const n of runner.drain(values, now)) runner.encode(n, now, ++seq)
  let turn = 0
  return () => {
    turn++
    const h = (turn % EQUIPMENT) * MEMBERS
    values.value[h] = Math.round((600 + (turn % 1000) / 10) * 10) / 10
    values.time[h] = now + turn
    runner.touch(h)
    for (const n of runner.drain(values, now + turn)) runner.encode(n, now + turn, ++seq)
  }
}

const table = { columns: ['program', 'glaze', 'peak'], rows: Array.from({ length: 1000 }, (_, i) => [`P${i}`, `glaze ${i}`, String(i)]) }
const runs: Record<string, () => void> = {
  'without steps': turnOf([]),
  'without steps, once more': turnOf([]),
  keep: turnOf([{ kind: 'keep', condition: 'm0 > 0.0' }]),
  repeats: turnOf([{ kind: 'repeats' }]),
  set: turnOf([{ kind: 'set', member: 'deviation', expression: 'm0 - m1' }]),
  rename: turnOf([{ kind: 'rename', member: 'm0', to: 'heat' }]),
  'leave out one': turnOf([{ kind: 'leave', members: ['m5'] }]),
  convert: turnOf([{ kind: 'convert', member: 'm0', unit: '°F' }]),
  'look up two in 1,000 rows': turnOf([{ kind: 'lookup', member: 'm11', table }]),
  smooth: turnOf([{ kind: 'smooth', members: ['m0'], seconds: 10 }]),
  bridge: turnOf([{ kind: 'bridge', members: ['m0'], by: 'last' }]),
}

/** µs a turn: rounds for each in turn, so that a slow moment hits all; the medians. */
function race(): Map<string, number> {
  const times = new Map(Object.keys(runs).map((name) => [name, [] as number[]]))
  for (const run of Object.values(runs)) for (let i = 0; i < 20_000; i++) run()
  for (let round = 0; round < ROUNDS; round++)
    for (const [name, run] of Object.entries(runs)) {
      const begun = performance.now()
      let turns = 0
      while (performance.now() - begun < ROUND_MS) for (let i = 0; i < 200; i++, turns++) run()
      times.get(name)!.push(((performance.now() - begun) * 1000) / turns)
    }
  return new Map([...times].map(([name, all]) => [name, median(all)]))
}

const found = race()
const base = found.get('without steps')!
for (const [name, us] of found)
  show(`${name}: µs from a tag change to the payload; of that without steps`, `${us.toFixed(2)}; ${(us / base).toFixed(2)}`)

const sandbox = await Sandbox.open()
const input: ScriptInput = {
  message: Object.fromEntries(equipment[0]!.members.map((m, i) => [m.key, i])),
  quality: Object.fromEntries(equipment[0]!.members.map((m) => [m.key, 'good' as const])),
  time: Object.fromEntries(equipment[0]!.members.map((m) => [m.key, new Date(now).toISOString()])),
  equipment: { name: 'Zone 0', class: 'Kiln Zone', path: ['Varnmoor'], facts: {} },
  state: '{"n":1}',
  now,
}
const code = 'state.n = (state.n ?? 0) + 1\nmessage.deviation = message.m0 - message.m1\nreturn message'
for (let i = 0; i < 2000; i++) sandbox.run({ key: 'a', code }, input)
const begun = process.cpuUsage()
const calls = 20_000
for (let i = 0; i < calls; i++) sandbox.run({ key: 'a', code }, input)
const { user, system } = process.cpuUsage(begun)
show('script, three lines over 12 members: µs of CPU a message, in its own thread', ((user + system) / calls).toFixed(1))
