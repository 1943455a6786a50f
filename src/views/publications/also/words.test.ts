import { expect, it } from 'vitest'
import type { Destination } from '~/contract/destination'
import type { Publication } from '~/contract/publication'
import { flatJsonSettings } from '~/contract/shape'
import { overMqtt } from '~/core/publication/over-mqtt'
import { clauseByClause, clauseName, editedWhole, freshClause, NAME_MOST, nameUnder } from './words'

const publication = (id: string, part: Partial<Publication> = {}): Publication => ({
  ...overMqtt({
    name: id,
    equipmentIds: ['e'],
    trigger: { kind: 'every', seconds: 5 },
    shape: flatJsonSettings,
    topic: 'a/{unit}',
    destinationId: 'd',
  }),
  ...{ id, version: 1, state: 'draft', liveVersion: null, editedSinceLive: false },
  ...part,
})
const live = (id: string, part: Partial<Publication> = {}) => publication(id, { state: 'live', liveVersion: 3, ...part })
const destination = (id: string, kind: Destination['kind'] = 'mqtt') => ({ id, name: `To ${id}`, kind, settings: {} }) as unknown as Destination

it('further clauses stand under their publication, in the order in which they came', () => {
  const list = [publication('a1', { alsoOf: 'b' }), publication('b'), publication('c'), publication('d1', { alsoOf: 'b' })]
  expect(clauseByClause(list).map((p) => p.id)).toEqual(['b', 'a1', 'd1', 'c'])
})

it('a new one goes to where the publication does not speak yet, its address as near as that can do', () => {
  const root = publication('kiln')
  const clause = freshClause(root, new Set(['d']), [destination('d'), destination('s', 'stream')])
  expect(clause).toMatchObject({ name: 'kiln to To s', alsoOf: 'kiln', destinationId: 's', trigger: root.trigger, equipmentIds: ['e'] })
  expect(clause.address.kind).toBe('stream')
  // Where there is no other, it begins with what there is.
  expect(freshClause(root, new Set(['d']), [destination('d')]).destinationId).toBe('d')
  expect(clauseName({ name: 'x'.repeat(119) }, destination('s'))).toHaveLength(NAME_MOST)
})

it('under its publication it is called by what is its own of its name', () => {
  expect(nameUnder('kiln to the stream', 'kiln')).toBe('to the stream')
  expect(nameUnder('kilns', 'kiln')).toBe('kilns')
  expect(nameUnder('kiln', 'kiln')).toBe('kiln')
  expect(nameUnder('kiln to the stream', undefined)).toBe('kiln to the stream')
})

it('a whole has edits that are not live when any of its clauses has', () => {
  const root = live('a')
  expect(editedWhole(publication('a'), [])).toBe(false)
  expect(editedWhole(root, [])).toBe(false)
  expect(editedWhole({ ...root, editedSinceLive: true }, [])).toBe(true)
  expect(editedWhole(root, [live('b'), live('c', { editedSinceLive: true })])).toBe(true)
  // What was never live waits for the next go-live, unless it is switched off.
  expect(editedWhole(root, [publication('b')])).toBe(true)
  expect(editedWhole(root, [publication('b', { off: true })])).toBe(false)
})
