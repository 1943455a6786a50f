// Encoders of one equipment with 12 members: beside JSON.stringify of a ready object, and Sparkplug B beside the common library for it.
import { get } from 'sparkplug-payload'
import type { PlanEquipment, PlanMember } from '~/contract/publication'
import { type ShapeInput, ShapeSettings } from '~/contract/shape'
import type { Cell } from '~/core/publication/cells/cell'
import { decoderOf, encoderOf, shapes } from '~/core/shape/registry'
import { metricName } from '~/core/shape/sparkplug-metric'
import { loadCompression, pack } from '~/engine/publications/compress'
import { median, show } from './common'

const MEMBERS = 12
const ROUNDS = 7
const now = Date.UTC(2026, 2, 4, 14, 7, 12, 481)
const members = Array.from({ length: MEMBERS }, (_, i): PlanMember => {
  const dataType = i === 10 ? 'boolean' : i === 11 ? 'text' : 'number'
  const key = ['temperature', 'setpoint', 'gasFlow', 'airFlow', 'draught', 'oxygen', 'pressure', 'humidity', 'power', 'speed', 'burner', 'curve'][i]!
  return {
    key,
    dataType,
    unit: '',
    fill: { kind: 'tag', handle: i, width: 0, factor: 1, offset: 0 },
    label: key,
    description: '',
    required: true,
    range: null,
    allowed: null,
    tag: '',
  }
})
const one: PlanEquipment = {
  id: '0197c1d2-0000-7000-8000-000000000001',
  name: 'Zone 7',
  level: 'work unit',
  path: ['Varnmoor', 'Lower Pit', 'Firing', 'Tunnel Kiln 1', 'Zone 7'],
  className: 'Kiln Zone',
  classVersion: 1,
  facts: {},
  members,
}
const values = members.map((m, i) => (m.dataType === 'boolean' ? true : m.dataType === 'text' ? 'FC-12' : Math.round(689.64 * (i + 1) * 10) / 10))
const cells = values.map(
  (value): Cell => ({ value, status: 0, time: now, goodValue: value, goodTime: now, handles: [], width: 0, problem: null, read: () => undefined }),
)
const parts = [{ cells, changed: new Uint8Array(MEMBERS).fill(1) }]
const scope = { equipment: [one], places: [0], publicationId: 'p', version: 1 }
let seq = 0
/** Each message differs a little, as they do. */
const turn = () => {
  seq++
  const cell = cells[seq % 10]!
  cell.value = Math.round((600 + (seq % 1000) / 10) * 10) / 10
}

/** Messages a second: rounds of 60 ms for each in turn, so that a slow moment hits all; the medians. */
function race(runs: Record<string, () => unknown>): Record<string, number> {
  const rates: Record<string, number[]> = Object.fromEntries(Object.keys(runs).map((k) => [k, []]))
  for (const run of Object.values(runs)) for (let i = 0; i < 20_000; i++) run()
  for (let round = 0; round < ROUNDS; round++)
    for (const [name, run] of Object.entries(runs)) {
      const began = performance.now()
      let n = 0
      for (; performance.now() - began < 60; n += 500) for (let i = 0; i < 500; i++) run()
      rates[name]!.push((n / (performance.now() - began)) * 1000)
    }
  return Object.fromEntries(Object.entries(rates).map(([k, list]) => [k, median(list)]))
}

await loadCompression()
const inputs: ShapeInput[] = [
  { kind: 'flat-json' },
  { kind: 'nested-json' },
  {
    kind: 'template',
    body: `{"at":"\${at}",${members.map((m) => `"${m.key}":${m.dataType === 'text' ? `"\${${m.key}}"` : `\${${m.key}}`}`).join(',')}}`,
  },
  { kind: 'rows' },
  { kind: 'cloudevents' },
  { kind: 'pubsub-json' },
  { kind: 'pubsub-uadp', fields: 'variant' },
  { kind: 'pubsub-uadp', fields: 'value' },
  { kind: 'sparkplug-b', members: 'all' },
  { kind: 'sparkplug-b', members: 'all', aliases: false },
  { kind: 'avro' },
  { kind: 'cbor' },
  { kind: 'messagepack' },
]
const label = (i: ShapeInput) =>
  `${shapes[i.kind].label}${'fields' in i ? `, ${i.fields}` : ''}${'aliases' in i && i.aliases === false ? ', names and datatypes' : ''}`
const encoders = inputs.map((i) => ({ name: label(i), how: ShapeSettings.parse(i), encode: encoderOf(ShapeSettings.parse(i), scope) }))
const ready: Record<string, unknown> = { at: '' }
const stringify = () => {
  turn()
  ready.at = new Date(now).toISOString()
  for (let i = 0; i < MEMBERS; i++) ready[members[i]!.key] = cells[i]!.value
  return JSON.stringify(ready)
}
const already = { ...ready, ...Object.fromEntries(members.map((m, i) => [m.key, cells[i]!.value])), at: new Date(now).toISOString() }
const common = get('spBv1.0')!
const metrics = members.map((m, i) => ({
  name: metricName(m),
  type: (m.dataType === 'boolean' ? 'Boolean' : m.dataType === 'text' ? 'String' : 'Double') as 'Double',
  value: cells[i]!.value as number,
  timestamp: now,
}))
const rates = race({
  ready: () => JSON.stringify(already),
  stringify,
  common: () => {
    turn()
    metrics[seq % 10]!.value = cells[seq % 10]!.value as number
    return common.encodePayload({ timestamp: now, metrics, seq: seq & 255 })
  },
  ...Object.fromEntries(
    encoders.map((e) => [
      e.name,
      () => {
        turn()
        return e.encode({ parts, now, seq, whole: true })
      },
    ]),
  ),
})
const per = (n: number) => `${Math.round(n).toLocaleString('en')} messages/s`
show('JSON.stringify of a ready object that never changes', per(rates.ready!))
show('JSON.stringify of an object that gets its values first', per(rates.stringify!))
const size = (p: string | Uint8Array) => (typeof p === 'string' ? Buffer.byteLength(p) : p.length)
for (const e of encoders) {
  const { payload } = e.encode({ parts, now, seq: 1, whole: true })!
  const bytes = typeof payload === 'string' ? Buffer.from(payload) : payload
  const decode = decoderOf(e.how, scope)
  for (let i = 0; i < 3000; i++) decode(bytes)
  let n = 0
  const began = performance.now()
  for (; performance.now() - began < 300; n += 100) for (let i = 0; i < 100; i++) decode(bytes)
  const decoded = (n / (performance.now() - began)) * 1000
  show(
    e.name,
    `${per(rates[e.name]!)}, ${(rates[e.name]! / rates.ready!).toFixed(2)} of stringify; read ${per(decoded)}; ${size(payload)} B, zstd ${pack('zstd', payload).length} B`,
  )
}
const ours = (name: string) => (rates[name]! / rates.common!).toFixed(1)
show(
  'Sparkplug B by the common library, names and datatypes',
  `${per(rates.common!)}; ours is ${ours('Sparkplug B, names and datatypes')} times that, by alias ${ours('Sparkplug B')} times`,
)
const delta = encoderOf(
  ShapeSettings.parse({ kind: 'sparkplug-b' }),
  scope,
)({ parts: [{ cells, changed: new Uint8Array(MEMBERS).fill(1, 0, 1) }], now, seq: 1, whole: false })!
show('one changed member: Sparkplug B by alias', `${size(delta.payload)} B`)
process.exit(0)
