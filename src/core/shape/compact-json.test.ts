import fc from 'fast-check'
import { expect, it } from 'vitest'
import type { PlanMember } from '~/contract/publication'
import { compactJson } from './compact-json'

const member = (key: string, handle: number | null, constant: PlanMember['constant'] = null): PlanMember => ({
  key,
  dataType: 'number',
  unit: '',
  handle,
  constant,
  deadband: null,
})
const at = Date.UTC(2026, 2, 4, 14, 7, 12, 481)

it('writes the documented form', () => {
  const encode = compactJson([member('temperature', 0), member('burner', 1), member('gasFlow', 2), member('line', null, 'A "1"')])
  const from = { value: [689.6, true, 31], status: [0, 0, 0x808c0000], time: [at - 500, at, at - 90] }
  expect(encode(from, 0)).toEqual({
    at,
    payload:
      '{"at":"2026-03-04T14:07:12.481Z","temperature":689.6,"burner":true,"gasFlow":null,"line":"A \\"1\\"","quality":{"gasFlow":"bad: sensor fault"}}',
  })
})

it('keeps an uncertain value and says so', () => {
  const { payload } = compactJson([member('t', 0)])({ value: [7], status: [0x408f0000], time: [at] }, 0)
  expect(JSON.parse(payload)).toEqual({ at: '2026-03-04T14:07:12.481Z', t: 7, quality: { t: 'uncertain: last usable value' } })
})

it('takes the present moment where no member has a device time', () => {
  expect(compactJson([member('c', null, 5)])({ value: [], status: [], time: [] }, at).at).toBe(at)
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
        const out = JSON.parse(encode({ value: values, status: values.map(() => 0), time: values.map(() => at) }, at).payload) as Record<
          string,
          unknown
        >
        used.forEach((k, i) => {
          const v = values[i]
          expect(out[k]).toEqual(typeof v === 'number' && !Number.isFinite(v) ? null : v === 0 ? 0 : v)
        })
        expect(out.quality).toBeUndefined()
      },
    ),
  )
})
