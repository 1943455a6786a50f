import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { type Tag, TagDraft } from '~/contract/tag'
import { Status } from '../value/quality'
import { surroundings } from './columns'
import { decodeStates, encodeStates } from './states'
import { countKinds, foldersOf, isLiveQuery, isOutside, parseFilter, StateIndex, TagList, type ViewContext, type ViewQuery } from './view'

const kiln = '01990000-0000-7000-8000-000000000001'
const made = '01990000-0000-7000-8000-000000000003'
const around = surroundings(
  [
    { id: kiln, name: 'Kiln', kind: 'opcua' },
    { id: made, name: 'Made up', kind: 'simulated' },
  ],
  [],
)
const tag = (handle: number, name: string, more: Partial<Tag> = {}): Tag => ({
  ...TagDraft.parse({ name, sourceId: kiln, address: `i=${handle}`, dataType: 'number' }),
  id: `t${handle}`,
  handle,
  version: 1,
  ...more,
})
const tags = [
  tag(1, 'Kiln/Zone 10/temperature', { unit: 'degC', deadband: { kind: 'absolute', size: 0.5 } }),
  tag(2, 'Kiln/Zone 9/temperature', { unit: 'degC', deadband: { kind: 'absolute', size: 10 } }),
  tag(7, 'Kiln/state', { dataType: 'text' }),
  tag(4, 'alone', { sourceId: made, unit: '%' }),
  tag(5, 'Dryer/door', { dataType: 'boolean', simulated: true, signal: 'cycle values=true|false period=10' }),
]
const now = 1_000_000_000
const values = { 1: 1040.5, 2: 90, 7: 'firing', 4: 3, 5: true }
const from = {
  value: [] as (number | string | boolean | null)[],
  status: [] as number[],
  time: [] as number[],
  seen: [] as number[],
  changed: [] as number[],
}
for (const [h, v] of Object.entries(values)) {
  const i = Number(h)
  from.value[i] = v
  from.status[i] = i === 2 ? 0x808c0000 : i === 4 ? Status.lastUsable : i === 5 ? Status.substitute : 0
  from.time[i] = now - i
  from.seen[i] = i === 7 ? 0 : now - i * 1000
  from.changed[i] = i === 1 ? now - 700_000 : now
}
const handles = tags.map((t) => t.handle)
const bytes = encodeStates(handles, from)
const states = new StateIndex(decodeStates(bytes.slice().buffer), now)
const ctx: ViewContext = { around, states, used: new Set([1, 2]), computed: new Set([made]) }
const all: ViewQuery = { words: '', folder: null, sourceId: null, kind: null, filters: {}, sort: null }
const list = new TagList(tags)
const names = (q: Partial<ViewQuery>) => list.view({ ...all, ...q }, ctx).map((t) => t.handle)

describe('states as bytes', () => {
  it('come back as they were', () => {
    expect(states.states.texts.get(7)).toBe('firing')
    expect(states.states.value[states.of(1)]).toBe(1040.5)
    expect(states.states.value[states.of(5)]).toBe(1)
    expect(states.states.value[states.of(7)]).toBeNaN()
    expect(states.of(6)).toBe(-1)
    expect(states.of(999)).toBe(-1)
    expect(decodeStates(encodeStates([], from).slice().buffer).handle.length).toBe(0)
  })
})

describe('the view', () => {
  it('has tags in the order of their names, numbers by size', () => expect(names({})).toEqual([4, 5, 7, 2, 1]))
  it.each<[string, Partial<ViewQuery>, number[]]>([
    ['words', { words: 'ZONE 9' }, [2]],
    ['words of addresses', { words: 'i=5' }, [5]],
    ['a folder with those below', { folder: 'Kiln' }, [7, 2, 1]],
    ['no folder', { folder: '' }, [4]],
    ['a source', { sourceId: made }, [4]],
    ['bad', { kind: 'bad' }, [2]],
    ['uncertain', { kind: 'uncertain' }, [4, 5]],
    ['stale', { kind: 'stale' }, [4]],
    ['never seen', { kind: 'never' }, [7]],
    ['not changing', { kind: 'still' }, [1]],
    ['simulated, by tag or source', { kind: 'simulated' }, [4, 5]],
    ['unused', { kind: 'unused' }, [4, 5, 7]],
    ['a column of texts', { filters: { unit: 'degc' } }, [2, 1]],
    ['an empty column', { filters: { unit: '=' } }, [5, 7]],
    ['not these words', { filters: { unit: '!deg', name: '!' } }, [4, 5, 7]],
    ['a column of numbers', { filters: { deadband: '>0.5' } }, [2]],
    ['values', { filters: { value: '50..2000' } }, [2, 1]],
    ['values that are texts', { filters: { value: 'fir' } }, [7]],
    ['values that are true', { filters: { value: '=true' } }, [5]],
    ['reasons', { filters: { quality: 'sensor' } }, [2]],
    ['ages in seconds', { filters: { age: '<=2' } }, [2, 1]],
    ['by deadband, empty last', { sort: { column: 'deadband', desc: false } }, [1, 2, 4, 5, 7]],
    ['by name, downwards', { sort: { column: 'name', desc: true } }, [1, 2, 7, 5, 4]],
    ['by value: numbers, then texts', { sort: { column: 'value', desc: true } }, [1, 2, 4, 5, 7]],
    ['by age, unknown last', { sort: { column: 'age', desc: true } }, [5, 4, 2, 1, 7]],
    ['by source', { sort: { column: 'source', desc: true } }, [4, 5, 7, 2, 1]],
    ['all together', { words: 'temp', folder: 'Kiln', filters: { unit: 'degC' }, sort: { column: 'value', desc: false } }, [2, 1]],
  ])('by %s', (_what, q, expected) => expect(names(q)).toEqual(expected))

  it('finds what is out of its range, the value being uncertain or bad for it', () => {
    const beyond = { ...from, status: from.status.map((s, h) => (h === 1 ? Status.engineeringUnitsExceeded : h === 7 ? Status.outOfRange : s)) }
    const at = { ...ctx, states: new StateIndex(decodeStates(encodeStates(handles, beyond).slice().buffer), now) }
    expect(list.view({ ...all, kind: 'range' }, at).map((t) => t.handle)).toEqual([7, 1])
    expect(countKinds(tags, at).range).toBe(2)
  })
  it('a good value beyond what is expected is out of range too; a text or none is not', () => {
    expect(isOutside({ range: { low: 0, high: 10 } }, 10.5)).toBe(true)
    expect(isOutside({ range: { low: 0, high: 10 } }, 10)).toBe(false)
    expect(isOutside({ range: { low: 0, high: 10 } }, Number.NaN)).toBe(false)
    expect(isOutside({ range: null }, 1e9)).toBe(false)
  })
  it('counts each kind', () =>
    expect(countKinds(tags, ctx)).toEqual({ bad: 1, uncertain: 2, range: 0, stale: 1, never: 1, still: 1, simulated: 2, unused: 3 }))
  it('knows nothing of values until states are there', () => {
    const without = { ...ctx, states: null }
    expect(list.view({ ...all, kind: 'bad' }, without)).toEqual([])
    expect(list.view({ ...all, sort: { column: 'value', desc: false } }, without).length).toBe(5)
  })
  it('says which queries follow the values', () => {
    expect(isLiveQuery(all)).toBe(false)
    expect(isLiveQuery({ ...all, kind: 'unused', filters: { unit: 'a', value: ' ' } })).toBe(false)
    expect(isLiveQuery({ ...all, filters: { quality: 'good' } })).toBe(true)
    expect(isLiveQuery({ ...all, sort: { column: 'age', desc: false } })).toBe(true)
  })

  it('a filter never breaks, whatever is typed', () => {
    fc.assert(
      fc.property(fc.string(), fc.string(), (filter, text) => {
        const test = parseFilter(filter)
        expect(test === null).toBe(filter.trim() === '')
        expect(typeof (test?.(text, 3) ?? true)).toBe('boolean')
      }),
    )
  })
})

it('folders come as a tree, with all that lies under them', () => {
  expect(foldersOf(tags).map((f) => `${' '.repeat(f.depth)}${f.name} ${f.tags}${f.below ? ' +' : ''}`)).toEqual([
    'Dryer 1',
    'Kiln 3 +',
    ' Zone 9 1',
    ' Zone 10 1',
  ])
})
