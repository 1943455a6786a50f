import { describe, expect, it } from 'vitest'
import type { Plan } from '~/contract/publication'
import { REPLAY_MOST } from '~/contract/replay'
import type { Envelope } from '~/core/delivery/envelope'
import { Runner } from '~/core/publication/runner'
import { planWith, type StepInput, T, zone } from '~/core/publication/steps/step-samples'
import type { Scalar } from '~/core/value/deadband'
import { Status } from '~/core/value/quality'
import { LiveTable } from '../live/table'
import { scriptsHere } from '../scripts/scripts'
import { packer } from './message'
import { replay } from './replay'

const host = { name: 'h', version: '1', startedAt: 0 }
const zones = () => [zone('Zone 1', 0), zone('Zone 2', 10)]
const planOf = (steps: StepInput[] = [], part: Partial<Plan> = {}): Plan => {
  const plan = { ...planWith(steps, zones()), ...part }
  return { ...plan, messages: plan.messages.map((m, n) => ({ ...m, place: `varnmoor/zone-${n + 1}` })) }
}
/** All tags of a zone, with a temperature. */
const all = (h: number, temperature: number): Record<number, Scalar> => ({
  ...{ [h]: temperature, [h + 1]: 650, [h + 2]: true, [h + 3]: 'P12', [h + 4]: 4, [h + 5]: 1.5, [h + 6]: 2 },
})

/** What a plan sends of changes: `[seconds, values]`. */
function sentOf(plan: Plan, changes: readonly [number, Record<number, Scalar>, number?][]): Envelope[] {
  const table = new LiveTable()
  const runner = new Runner(plan, host)
  for (const h of runner.handles) table.ensure(h)
  const pack = packer(plan)
  const out: Envelope[] = []
  for (const [seconds, values, status = Status.good] of changes) {
    const at = T + seconds * 1000
    const handles = Object.keys(values).map(Number)
    table.apply({ handles, values: Object.values(values), statuses: handles.map(() => status), times: handles.map(() => at) })
    for (const h of handles) runner.touch(h)
    for (const n of runner.drain(table, at)) {
      const m = runner.encode(n, at, out.length + 1)
      if (!m) continue
      const { payload, properties } = pack(m)
      const times = { deviceAt: at, producedAt: at, madeMono: at, turn: 0 }
      out.push({ delivery: 1, seq: out.length + 1, topic: m.place, payload, properties, assurance: 'acknowledged', ...times })
    }
  }
  return out
}

async function* each(list: readonly Envelope[]): AsyncGenerator<Envelope> {
  for (const e of list) yield e
}

const run = (sent: readonly Envelope[], next: Plan, o: { live?: Plan | null; to?: number; present?: Record<number, Scalar> } = {}) => {
  const table = new LiveTable()
  const handles = Object.keys(o.present ?? {}).map(Number)
  table.apply({ handles, values: Object.values(o.present ?? {}), statuses: handles.map(() => 0), times: handles.map(() => T) })
  const live = o.live === undefined ? planOf() : o.live
  return replay({
    ...{ next, table, host, scripts: scriptsHere() },
    sent: each(sent),
    planAt: () => live,
    from: T,
    to: T + (o.to ?? 600) * 1000,
  })
}

const changes: [number, Record<number, Scalar>][] = [
  [1, { ...all(0, 640), ...all(10, 500) }],
  [2, { 0: 650 }],
  [3, { 0: 660, 10: 501 }],
  [14, { 0: 670 }],
  [15, { 10: 502 }],
]

describe('a replay', () => {
  it('through what is live gives what was sent', async () => {
    const sent = sentOf(planOf(), changes)
    expect(sent).toHaveLength(7)
    const found = await run(sent, planOf())
    expect(found).toMatchObject({ same: 7, changed: 0, held: 0, added: 0, cut: false, differences: [] })
    expect(found.edited).toEqual(found.sent)
    expect(found.notes).toEqual(['Tags are known as they were sent: what the live version did not send of them is not replayed.'])
  })

  it('shows what a step holds back, and what it changes, member by member', async () => {
    const sent = sentOf(planOf(), changes)
    const kept = await run(sent, planOf([{ kind: 'keep', condition: 'temperature > 655.0', unknown: 'drop' }]))
    expect(kept).toMatchObject({ same: 2, held: 5, changed: 0, added: 0, edited: { messages: 2 } })
    expect(kept.differences[0]).toMatchObject({ kind: 'held', topic: 'varnmoor/zone-1', octets: { edited: null } })
    const set = await run(sent, planOf([{ kind: 'set', member: 'temperature', expression: 'temperature + 1' }]))
    expect(set).toMatchObject({ same: 0, changed: 7 })
    expect(set.differences[0]).toMatchObject({ members: [{ member: 'temperature', sent: '640', edited: '641' }], memberCount: 1 })
    const left = await run(sent, planOf([{ kind: 'leave', members: ['temperature'], but: false }]))
    expect(left.differences[0]).toMatchObject({ kind: 'changed', members: [{ member: 'temperature', edited: null }] })
  })

  it('goes by the time of then: windows, beats and the least pace', async () => {
    const sent = sentOf(planOf(), changes)
    const gathered = await run(sent, planOf([{ kind: 'window', seconds: 10, by: 'average' }]))
    expect(gathered.edited.messages).toBe(4)
    const beat = await run(sent, planOf([], { trigger: { kind: 'every', seconds: 5 } }), { to: 21 })
    expect(beat.edited.messages).toBe(8)
    const paced = await run(sent, planOf([], { pace: { mostS: 10 } }))
    expect(paced).toMatchObject({ same: 2, held: 5, added: 4, edited: { messages: 6 } })
    expect(paced.differences.filter((d) => d.kind === 'added').map((d) => (d.at - T) / 1000)).toEqual([11, 11, 21, 21])
  })

  it('brings messages through scripts, with what they keep, and says what fails in them', async () => {
    const sent = sentOf(planOf(), changes)
    const counting: StepInput = {
      kind: 'script',
      code: 'state.n = (state.n ?? 0) + 1; message.n = state.n; return message',
      gives: [{ member: 'n', dataType: 'integer', unit: '' }],
    }
    const found = await run(sent, planOf([counting]))
    expect(found).toMatchObject({ changed: 7, edited: { messages: 7 } })
    expect(found.differences.flatMap((d) => d.members.filter((m) => m.member === 'n').map((m) => m.edited))).toEqual([
      '1',
      '1',
      '2',
      '3',
      '2',
      '4',
      '3',
    ])
    const failing = await run(sent, planOf([{ kind: 'script', code: 'throw new Error("no such kiln")', gives: [] }]))
    expect(failing).toMatchObject({ held: 7, edited: { messages: 0 } })
    expect(failing.notes.at(-1)).toContain('no such kiln')
  })

  it('knows what was sent as a version began: present values are no news, and were then', async () => {
    const sent = sentOf(planOf(), [[1, { ...all(0, 640), ...all(10, 500) }]])
    expect(await run(sent, planOf(), { present: { ...all(0, 640), ...all(10, 500) } })).toMatchObject({ same: 2, held: 0, added: 0 })
  })

  it('knows messages again whose address was changed', async () => {
    const sent = sentOf(planOf(), changes)
    const next = planOf()
    const found = await run(sent, { ...next, messages: next.messages.map((m, n) => ({ ...m, place: `elsewhere/${n}` })) })
    expect(found).toMatchObject({ same: 0, changed: 7, held: 0, added: 0, topicCount: 4 })
  })

  it('reckons back what a range or a unit made of a tag', async () => {
    const scaled = (plan: Plan): Plan => ({
      ...plan,
      equipment: plan.equipment.map((e) => ({
        ...e,
        members: e.members.map((m) =>
          m.key === 'temperature' && m.fill.kind === 'tag' ? { ...m, fill: { ...m.fill, factor: 1.8, offset: 32 } } : m,
        ),
      })),
    })
    const sent = sentOf(scaled(planOf()), changes)
    expect(JSON.parse(String(sent[0]!.payload))).toMatchObject({ temperature: 1184 })
    const found = await run(sent, planOf(), { live: scaled(planOf()) })
    expect(found.changed).toBe(7)
    expect(found.differences[0]!.members).toEqual([{ member: 'temperature', sent: '1184', edited: '640' }])
  })

  it('says of what it does not know that it does not', async () => {
    const sent = sentOf(planOf(), changes)
    const stray = { ...sent[3]!, topic: 'nobody/knows' }
    const broken = { ...sent[5]!, payload: '{"temperature":' }
    const found = await run([...sent.slice(0, 3), stray, sent[4]!, broken], planOf())
    expect(found.sent.messages).toBe(4)
    expect(found.notes).toContain('2 messages could not be read again: they are not among those compared.')
    const none = await run(sent, planOf(), { live: null })
    expect(none).toMatchObject({
      sent: { messages: 0 },
      notes: expect.arrayContaining(['7 messages could not be read again: they are not among those compared.']),
    })
    const only = await run(
      sentOf(planOf(), [
        [1, all(0, 1)],
        [2, { 0: 2 }],
      ]),
      planOf(),
      { present: all(10, 77) },
    )
    expect(only).toMatchObject({ same: 2, added: 0 })
    expect(only.notes).toContain('7 tags were not sent in that time: their present values stand for them.')
  })

  it('of bad values keeps that they are bad', async () => {
    const plan = planOf()
    const sent = sentOf(plan, [
      [1, { ...all(0, 640), ...all(10, 500) }],
      [2, { 0: 0 }, Status.communication],
      [3, { 0: 650 }],
    ])
    expect(await run(sent, plan, { live: plan })).toMatchObject({ same: sent.length, changed: 0, held: 0, added: 0 })
  })

  it('ends where the edited publication makes more than can be compared', { timeout: 120_000 }, async () => {
    const sent = sentOf(planOf(), changes)
    const found = await run(sent, planOf([], { trigger: { kind: 'every', seconds: 0.1 } }), { to: 12_000 })
    expect(found.cut).toBe(true)
    expect(found.edited.messages).toBeLessThanOrEqual(200_002)
    expect(found.to).toBeLessThan(T + 12_000_000)
  })

  it('refuses an edge node, and ends where there is too much', { timeout: 120_000 }, async () => {
    const spark = { ...planOf(), shape: { kind: 'sparkplug-b' } } as unknown as Plan
    await expect(run([], spark)).rejects.toMatchObject({ failure: { code: 'replay.sparkplug' } })
    const [first] = sentOf(planOf(), changes)
    const many = Array.from({ length: REPLAY_MOST + 10 }, (_, i) => ({ ...first!, seq: i + 1, producedAt: T + i }))
    const found = await run(many, planOf())
    expect(found.cut).toBe(true)
    expect(found.sent.messages).toBeLessThanOrEqual(REPLAY_MOST)
    expect(found.to).toBeLessThan(T + REPLAY_MOST + 1)
  })
})
