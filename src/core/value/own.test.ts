// Names that every object answers to are ordinary text, wherever they come in.
import { expect, it } from 'vitest'
import type { Plan } from '~/contract/publication'
import { mqttAddress } from '../address/kinds/mqtt'
import { parseTemplate } from '../address/template'
import { resolveTemplate, templateProblems } from '../address/topic-template'
import { Runner } from '../publication/runner'
import { decoderOf, scopeOf } from '../shape/registry'
import { kiln, member, settings } from '../shape/shape-samples'
import { parseSignal } from '../source/signal'
import { own } from './own'

const NAMES = ['constructor', 'toString', 'hasOwnProperty', 'valueOf', '__proto__', 'isPrototypeOf']

it.each(NAMES)('%s under which nothing was put is nothing', (name) => {
  expect(own({}, name)).toBeUndefined()
  expect(own(Object.fromEntries([[name, 'x']]), name)).toBe('x')
  expect(own(undefined, name)).toBeUndefined()
  const of = { lineage: [{ name: 'Kiln', level: 'work unit' as const, alias: '', facts: {}, externalIds: {} }], className: null }
  for (const key of [`fact.${name}`, `external.${name}`]) expect(resolveTemplate(`{${key}}`, of, null)).toMatchObject({ resolved: '', missing: key })
  expect(templateProblems(`{${name}}`)).toHaveLength(1)
  // No filter is called so.
  expect(parseTemplate(`{name|${name}}`, () => true, '').problems[0]!.message).toContain('is no filter')
  expect(parseSignal(name)).toMatchObject({ problem: expect.stringContaining('A signal is one of') })
})

it.each(['constructor', 'toString', 'valueOf'])(
  'a member called %s goes out and is read back in every shape, and is missed when it is not there',
  (name) => {
    for (const input of [
      { kind: 'flat-json' },
      { kind: 'nested-json' },
      { kind: 'rows' },
      { kind: 'cbor' },
      { kind: 'messagepack' },
      { kind: 'pubsub-json' },
    ] as const) {
      const shape = settings(input)
      const message = { equipment: [0], members: null, steering: [], place: 't', key: '', headers: [], responseTopic: '' }
      const fill = { kind: 'tag' as const, handle: 1, width: 0, factor: 1, offset: 0 }
      const plan = {
        publicationId: 'p',
        number: 1,
        shape,
        address: mqttAddress.fresh,
        equipment: [{ ...kiln, members: [member(name, 'number', { fill })] }],
        messages: [message],
      } as unknown as Plan
      const runner = new Runner(plan)
      for (const c of runner.cellsOfEquipment[0]!) c.read({ value: [null, 4.5], status: [0, 0], time: [0, 1] }, 1)
      const { payload } = runner.encode(0, 1, 1)!
      const decode = decoderOf(shape, scopeOf(plan, message))
      const read = decode(typeof payload === 'string' ? new TextEncoder().encode(payload) : payload)
      expect('readings' in read && read.readings.map((r) => [r.member, r.value]), input.kind).toEqual([[name, 4.5]])
      if (input.kind === 'flat-json') {
        const nothing = decode(new TextEncoder().encode('{"at":"2026-03-04T14:07:12.481Z"}'))
        expect('readings' in nothing && nothing.readings).toEqual([])
      }
    }
  },
)
