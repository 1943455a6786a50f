import { expect, it } from 'vitest'
import type { Plan } from '~/contract/publication'
import { joining } from './joining'
import { planWith, zone } from './steps/step-samples'

const plan = (...names: string[]): Plan => {
  const one = planWith(
    [],
    names.map((name) => zone(name, Number(name.split(' ')[1]) * 10)),
  )
  const messages = one.messages.map((m, n) => ({ ...m, place: `works/${names[n]}` }))
  return structuredClone({ ...one, messages })
}

it('says who joins and who leaves; what stays as it is is no other', () => {
  expect(joining(plan('Zone 1', 'Zone 2'), plan('Zone 1', 'Zone 2'))).toEqual({ joined: [], left: [], others: [] })
  expect(joining(plan('Zone 1', 'Zone 2'), plan('Zone 2', 'Zone 3'))).toEqual({ joined: ['Zone 3'], left: ['Zone 1'], others: [] })
  // One that comes before the others moves them in the plan, and changes nothing of them.
  expect(joining(plan('Zone 2'), plan('Zone 1', 'Zone 2'))).toEqual({ joined: ['Zone 1'], left: [], others: [] })
})

it('what a database gives back in another order of names is the same', () => {
  const turned = (thing: unknown): unknown =>
    Array.isArray(thing)
      ? thing.map(turned)
      : typeof thing === 'object' && thing !== null
        ? Object.fromEntries(
            Object.entries(thing)
              .reverse()
              .map(([k, v]) => [k, turned(v)]),
          )
        : thing
  expect(joining(turned(plan('Zone 1', 'Zone 2')) as Plan, plan('Zone 1', 'Zone 2'))).toEqual({ joined: [], left: [], others: [] })
})

it('through steps that take their time it says so too: places move, what is read before them counts', () => {
  const gathered = (...names: string[]): Plan =>
    structuredClone(
      planWith(
        [{ kind: 'window', seconds: 10, by: 'average' }],
        names.map((name) => zone(name, Number(name.split(' ')[1]) * 10)),
      ),
    )
  const named = (p: Plan, ...names: string[]): Plan => ({ ...p, messages: p.messages.map((m, n) => ({ ...m, place: names[n]! })) })
  const [one, two] = [named(gathered('Zone 2'), 'b'), named(gathered('Zone 1', 'Zone 2'), 'a', 'b')]
  expect(joining(one, two)).toEqual({ joined: ['Zone 1'], left: [], others: [] })
  const rebound = structuredClone(two)
  Object.assign(rebound.stages![0]!.equipment[1]![0]!.fill, { handle: 99 })
  expect(joining(one, rebound)).toEqual({ joined: ['Zone 1'], left: [], others: ['Zone 2'] })
})

it('numbers that a registry gave schemas do not make another of it', () => {
  const live = plan('Zone 1')
  live.messages[0]!.schemaId = 7
  expect(joining(live, plan('Zone 1', 'Zone 2'))).toEqual({ joined: ['Zone 2'], left: [], others: [] })
})

it('one message about all of them goes on where it goes, or that is told', () => {
  const all = (place: string, ...names: string[]): Plan => {
    const one = plan(...names)
    return { ...one, shape: { kind: 'device-facts' } as never, messages: [{ ...one.messages[0]!, equipment: names.map((_, i) => i), place }] }
  }
  expect(joining(all('works', 'Zone 2'), all('works', 'Zone 1', 'Zone 2'))).toEqual({ joined: ['Zone 1'], left: [], others: [] })
  expect(joining(all('works/firing', 'Zone 2'), all('works', 'Zone 1', 'Zone 2')).others).toHaveLength(1)
})

it.each<[string, (p: Plan) => void]>([
  ['another tag', (p) => Object.assign(p.equipment[0]!.members[0]!, { fill: { kind: 'tag', handle: 99, width: 0, factor: 1, offset: 0 } })],
  ['another unit', (p) => Object.assign(p.equipment[0]!.members[0]!, { unit: 'K' })],
  ['another name', (p) => Object.assign(p.equipment[0]!, { name: 'Zone one' })],
  ['another deadband', (p) => Object.assign(p.equipment[0]!.members[0]!.fill, { width: 2 })],
  ['another address', (p) => Object.assign(p.messages[0]!, { place: 'elsewhere' })],
  ['one member less', (p) => p.equipment[0]!.members.pop()],
  ['another fact', (p) => Object.assign(p.equipment[0]!.facts, { fuel: 'gas' })],
])('%s is told of who would be sent otherwise', (_what, change) => {
  const next = plan('Zone 1', 'Zone 2')
  change(next)
  expect(joining(plan('Zone 1', 'Zone 2'), next).others).toHaveLength(1)
})
