import fc from 'fast-check'
import { expect, it } from 'vitest'
import type { PlanMember } from '~/contract/publication'
import type { Cell } from '../publication/cell'
import type { Scalar } from '../value/deadband'
import { compactJson } from './compact-json'

const member = (key: string, handle: number | null, constant: string | number = ''): PlanMember => ({
  key,
  dataType: 'number',
  unit: '',
  fill: handle === null ? { kind: 'constant', value: constant } : { kind: 'tag', handle, width: 0, factor: 1, offset: 0 },
})
const cell = (value: Scalar, time = 0, status = 0): Cell => ({ value, time, status, handles: [0], width: 0, problem: null, read: () => undefined })
const at = Date.UTC(2026, 2, 4, 14, 7, 12, 481)

it('writes the documented form', () => {
  const encode = compactJson([member('temperature', 0), member('burner', 1), member('gasFlow', 2), member('line', null, 'A "1"')])
  const cells = [cell(689.6, at - 500), cell(true, at), cell(31, at - 90, 0x808c0000), cell('A "1"')]
  expect(encode(cells, 0)).toEqual({
    at,
    payload:
      '{"at":"2026-03-04T14:07:12.481Z","temperature":689.6,"burner":true,"gasFlow":null,"line":"A \\"1\\"","quality":{"gasFlow":"bad: sensor fault"}}',
  })
})

it('keeps an uncertain value and says so', () => {
  const { payload } = compactJson([member('t', 0)])([cell(7, at, 0x408f0000)], 0)
  expect(JSON.parse(payload)).toEqual({ at: '2026-03-04T14:07:12.481Z', t: 7, quality: { t: 'uncertain: last usable value' } })
})

it('takes the present moment where no member has a device time', () => {
  expect(compactJson([member('c', null, 5)])([cell(5)], at).at).toBe(at)
})

it('is JSON that gives every good value back, whatever the values and keys are', () => {
  const value = fc.oneof(fc.double(), fc.boolean(), fc.string({ unit: 'grapheme' }), fc.constant(null))
  fc.assert(
    fc.property(
      fc.uniqueArray(fc.string({ unit: 'grapheme', minLength: 1 }).filter((k) => !['at', 'quality', '__proto__'].includes(k))),
      fc.array(value, { minLength: 40, maxLength: 40 }),
      (keys, values) => {
        const used = keys.slice(0, 40)
        const encode = compactJson(used.map((k, i) => member(k, i)))
        const out = JSON.parse(
          encode(
            values.map((v) => cell(v, at)),
            at,
          ).payload,
        ) as Record<string, unknown>
        used.forEach((k, i) => {
          const v = values[i]
          expect(out[k]).toEqual(typeof v === 'number' && !Number.isFinite(v) ? null : v === 0 ? 0 : v)
        })
        expect(out.quality).toBeUndefined()
      },
    ),
  )
})
