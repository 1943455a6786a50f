import { expect, it } from 'vitest'
import type { PublicationDraft } from '~/contract/publication'
import { flatJsonSettings } from '~/contract/shape'
import { sharedOf, withOwnSteps } from './clauses'
import { overMqtt } from './over-mqtt'

const one = '01890000-0000-7000-8000-000000000001'
const two = '01890000-0000-7000-8000-000000000002'
const draft = (part: Partial<PublicationDraft> = {}): PublicationDraft => ({
  ...overMqtt({ name: 'p', equipmentIds: [one], trigger: { kind: 'change' }, shape: flatJsonSettings, topic: 'a/{unit}', destinationId: one }),
  ...part,
})

it('a further clause has equipment, rule, trigger, pace and steps of its publication, and all else of its own', () => {
  const root = draft({ rule: { underId: two }, pace: { mostS: 2 }, steps: [{ kind: 'drop', condition: 'n < 0', unknown: 'pass' }] })
  const clause = draft({ name: 'clause', equipmentIds: [two], trigger: { kind: 'hand' }, destinationId: two, alsoOf: one, off: true })
  const whole = sharedOf(root, clause)
  expect(whole).toMatchObject({ name: 'clause', destinationId: two, alsoOf: one, off: true, address: clause.address, shape: clause.shape })
  for (const key of ['equipmentIds', 'rule', 'trigger', 'pace', 'steps'] as const) expect(whole[key]).toEqual(root[key])
})

it('what its publication does not have, a further clause does not keep', () => {
  const clause = draft({ rule: { underId: two }, pace: { mostS: 2 }, steps: [{ kind: 'drop', condition: 'n < 0', unknown: 'pass' }] })
  expect(Object.keys(sharedOf(draft(), clause)).sort()).toEqual(Object.keys(draft()).sort())
  expect(sharedOf(draft())).toEqual({ equipmentIds: [one], trigger: { kind: 'change' } })
})

it('steps of its own come after those of all clauses, and are no one else’s', () => {
  const step = (condition: string) => ({ kind: 'keep' as const, condition, unknown: 'pass' as const })
  const root = draft({ steps: [step('a')], own: [step('b')] })
  expect(withOwnSteps(root).steps).toEqual([step('a'), step('b')])
  expect(withOwnSteps(withOwnSteps(root))).toEqual(withOwnSteps(root))
  expect(withOwnSteps(draft({ own: [step('c')] })).steps).toEqual([step('c')])
  expect(withOwnSteps(draft({ steps: [step('a')] }))).toEqual(draft({ steps: [step('a')] }))
  const clause = sharedOf(root, draft({ own: [step('d')], alsoOf: one }))
  expect(withOwnSteps(clause).steps).toEqual([step('a'), step('d')])
})
