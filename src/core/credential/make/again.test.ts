import { expect, it } from 'vitest'
import type { CertificateUse, KeyKind } from '~/contract/make'
import { madeAs } from './again'
import { dueAt } from './due'
import { issue, makeAuthority } from './issue'

const now = Date.UTC(2026, 10, 29)

it.each<[KeyKind, CertificateUse, string[]]>([
  ['P-256', 'client', []],
  ['P-384', 'both', ['broker.example', '*.hall.example', '10.0.0.7', 'fd00::1']],
  ['RSA 2048', 'server', ['broker.example']],
])('what was made of %s for a %s is made alike again', async (key, use, hosts) => {
  const authority = await makeAuthority({ commonName: 'Works', organization: '' }, { key: 'P-256', days: 3650, now })
  const leaf = { commonName: 'Kiln edge, "7"', organization: 'Varnmoor', key, use, hosts }
  const first = await issue({ certificate: authority.text, key: authority.key }, leaf, { days: 397, now })
  const as = madeAs(first.text)
  expect(as).toEqual({ ...leaf, days: 397 })
  const second = await issue({ certificate: authority.text, key: authority.key }, as, { days: as.days, now: now + 1000 })
  expect(madeAs(second.text)).toEqual(as)
  expect(second.serial).not.toBe(first.serial)
  expect(second.key).not.toBe(first.key)
})

it('is due so many days before its end, and never before two thirds of its life', () => {
  const at = (text: string) => Date.parse(text)
  const year = { notBefore: '2026-01-01T00:00:00Z', notAfter: '2027-01-01T00:00:00Z' }
  expect(dueAt(year, 30)).toBe(at('2026-12-02T00:00:00Z'))
  const days = { notBefore: '2026-01-01T00:00:00Z', notAfter: '2026-01-07T00:00:00Z' }
  expect(dueAt(days, 30)).toBe(at('2026-01-05T00:00:00Z'))
})
