import { describe, expect, it } from 'vitest'
import type { Finding, PublicationDraft } from '~/contract/publication'
import { RowPick } from '~/contract/rows'
import { flatJsonSettings, ShapeSettings } from '~/contract/shape'
import { asSent } from './as-sent'
import { compile } from './compile'
import { overMqtt } from './over-mqtt'
import type { World } from './placed'
import { rowPlace, rowSlots, withPlaces } from './placed-rows'

const SOURCE = '01890000-0000-7000-8000-000000000001'
const pick = (part: object = {}) =>
  RowPick.parse({
    sourceId: SOURCE,
    columns: [
      { name: 'order no', dataType: 'text' },
      { name: 'quantity', dataType: 'number', unit: 'pcs' },
      { name: '12 h', dataType: 'number' },
    ],
    ...part,
  })
const draft = (part: Partial<PublicationDraft> = {}, topic = 'varnmoor/orders/{value.order_no}'): PublicationDraft =>
  overMqtt({
    ...{ name: 'orders', equipmentIds: [], trigger: { kind: 'change' }, shape: flatJsonSettings, destinationId: SOURCE, topic },
    ...{ rows: pick(), ...part },
  })

const bare: World = {
  ...{ equipment: new Map(), classes: new Map(), tags: new Map(), records: new Map(), madeUpSources: new Set<string>() },
  rows: { sources: new Map([[SOURCE, 'Works orders']]), handles: new Map(rowSlots(pick()).map((slot, i) => [rowPlace(slot), 40 + i])) },
}
const stops = (d: PublicationDraft, world: World = bare) => compile(d, world).findings.filter((f: Finding) => f.severity === 'stops')

it('go out as one equipment whose members are their columns, read where they were put', () => {
  const { body, findings } = compile(draft(), bare)
  expect(findings.filter((f) => f.severity === 'stops')).toEqual([])
  expect(body.equipment.map((e) => [e.name, e.path, e.members.map((m) => [m.key, m.label, m.dataType, m.unit])])).toEqual([
    [
      'Works orders',
      ['Works orders'],
      [
        ['order_no', 'order no', 'text', ''],
        ['quantity', 'quantity', 'number', 'pcs'],
        ['_12_h', '12 h', 'number', ''],
      ],
    ],
  ])
  expect(body.messages).toHaveLength(1)
  expect(body.feed).toMatchObject({ sourceId: SOURCE, source: 'Works orders', nameHandle: null, changeHandle: null, removed: false })
  expect(body.feed!.columns.map((c) => c.handle)).toEqual([40, 41, 42])
  expect(body.equipment[0]!.members.map((m) => m.fill.kind === 'tag' && m.fill.handle)).toEqual([40, 41, 42])
})

it('have what tells them apart and what became of them as members, in places that nothing else has', () => {
  const d = draft({ rows: pick({ nameAs: 'row', changeAs: 'quantity', removed: true }) })
  const { body, findings } = compile(d, withPlaces(bare, d.rows!))
  expect(findings.filter((f) => f.severity === 'stops')).toEqual([])
  expect(body.equipment[0]!.members.map((m) => m.key)).toEqual(['order_no', 'quantity_2', '_12_h', 'row', 'quantity'])
  expect([body.feed!.nameHandle, body.feed!.changeHandle]).toEqual([43, 44])
  // What was saved before is where it was.
  expect(body.feed!.columns.map((c) => c.handle)).toEqual([40, 41, 42])
  expect(asSent(bare, [], { rows: d.rows }).common).toEqual(['order_no', 'quantity_2', '_12_h', 'row', 'quantity'])
})

describe('what rows cannot be stops', () => {
  it.each<[string, Partial<PublicationDraft>, Finding['section'], RegExp]>([
    ['by a condition', { trigger: { kind: 'when', condition: 'quantity > 3', on: 'begin' } }, 'when', /^Rows go out when they change/],
    ['by an event', { trigger: { kind: 'event', of: 'record' } }, 'when', /^Rows go out when they change/],
    ['at a pace', { pace: { mostS: 5 } }, 'when', /how often their source is read/],
    ['with a deadband', { trigger: { kind: 'change', deadband: { kind: 'absolute', size: 1 } } }, 'when', /anything in it is another/],
    [
      'with changes by the clock',
      { trigger: { kind: 'every', seconds: 5 }, rows: pick({ changeAs: 'c' }) },
      'when',
      /only where rows go out on change/,
    ],
    ['without repeats', { steps: [{ kind: 'repeats' }] }, 'steps', /^Step 1, Drop repeats, goes by what was said before/],
    ['smoothed', { steps: [{ kind: 'smooth', members: ['quantity'], seconds: 5 }] }, 'steps', /^Step 1, Smooth/],
    ['one message a member', { shape: ShapeSettings.parse({ kind: 'value', bad: 'marked' }) }, 'shape', /^A row is one message/],
    ['with two members of one name', { rows: pick({ nameAs: 'x', changeAs: 'x' }) }, 'what', /^x cannot be both/],
  ])('%s', (_words, part, section, message) => {
    const d = draft(part)
    const found = stops(d, withPlaces(bare, d.rows!))
    expect(found.some((f) => f.section === section && message.test(f.message))).toBe(true)
  })

  it('of a source that is gone, or gives none', () => {
    expect(stops(draft(), { ...bare, rows: { sources: new Map(), handles: new Map() } })[0]!.message).toBe(
      'The source of its rows no longer exists, or gives no rows',
    )
  })
})

describe('a pick is refused', () => {
  it.each([
    ['without columns', { columns: [] }, 'columns', 'Which columns?'],
    [
      'with a column twice',
      {
        columns: [
          { name: 'a', dataType: 'text' },
          { name: 'a', dataType: 'number' },
        ],
      },
      'columns.1.name',
      'a is there twice',
    ],
    ['with removed rows that nobody could tell', { removed: true }, 'changeAs', 'Which member says that a row was removed?'],
    ['with a place that is none', { at: 'orders' }, 'at', 'Like /orders/open, as RFC 6901 has it; empty: at the top'],
    ['with a NUL', { key: 'a\0' }, 'key', 'It holds a NUL: take it out'],
  ])('%s', (_words, part, path, message) => {
    const { error } = RowPick.safeParse({ sourceId: SOURCE, columns: [{ name: 'a', dataType: 'text' }], ...part })
    expect(error!.issues.map((i) => [i.path.join('.'), i.message])).toContainEqual([path, message])
  })
})

it('steps see them as they see equipment', () => {
  const steps: PublicationDraft['steps'] = [
    { kind: 'keep', condition: 'quantity > 10', unknown: 'drop' },
    { kind: 'rename', member: 'order_no', to: 'order' },
  ]
  const { body, findings } = compile(draft({ steps }, 'varnmoor/orders/{value.order}'), bare)
  expect(findings.filter((f) => f.severity === 'stops')).toEqual([])
  expect(body.equipment[0]!.members.map((m) => m.key)).toEqual(['order', 'quantity', '_12_h'])
})
