import { describe, expect, it } from 'vitest'
import type { CertificateFacts } from '~/contract/credential'
import { type Held, replacementFindings } from './replacement'

const facts = (part: Partial<CertificateFacts> = {}): CertificateFacts => ({
  ...{ subject: 'CN=kiln-7', issuer: 'CN=works', serial: '01', notBefore: '2026-01-01T00:00:00.000Z', notAfter: '2027-01-01T00:00:00.000Z' },
  ...{ sha1: 'a', sha256: 'a', names: [], authority: false, key: 'ECDSA P-256', chain: 1 },
  ...part,
})
const held = (of: CertificateFacts | null, user: string | null = null, endsAt = of?.notAfter ?? null): Held => ({ facts: of, user, endsAt })
const told = (kind: 'certificate' | 'authority' | 'password', old: Held, next: Held) =>
  replacementFindings(kind, old, next).map((f) => `${f.severity} ${f.code.slice(11)}`)

describe('before something takes the place of what a credential holds', () => {
  const old = held(facts())
  it.each([
    ['a successor', { sha256: 'b', notAfter: '2028-01-01T00:00:00.000Z' }, []],
    ['the same', {}, ['note same']],
    ['one of another name', { sha256: 'b', subject: 'CN=dryer-2', notAfter: '2028-01-01T00:00:00.000Z' }, ['warning other-subject']],
    ['one by another authority', { sha256: 'b', issuer: 'CN=other', notAfter: '2028-01-01T00:00:00.000Z' }, ['note other-issuer']],
    ['an older one', { sha256: 'b', notAfter: '2026-06-01T00:00:00.000Z' }, ['warning ends-earlier']],
  ])('%s', (_what, part, findings) => expect(told('certificate', old, held(facts(part)))).toEqual(findings))

  it('an authority whose list alone is new is another one, and says nothing', () => {
    const next = facts({ lists: [{ issuer: 'CN=works', until: '2026-12-01T00:00:00.000Z' }] })
    expect(told('authority', old, held(next))).toEqual([])
    expect(told('authority', old, held(facts({ sha256: 'b' })))).toEqual(['note other-authority'])
  })

  it('a log-in of another user, and a token that ends earlier or not at all', () => {
    expect(told('password', held(null, 'kiln-7'), held(null, 'kiln-7'))).toEqual([])
    expect(told('password', held(null, 'kiln-7'), held(null, 'dryer-2'))).toEqual(['warning other-user'])
    const until = (endsAt: string | null) => held(null, 'kiln-7', endsAt)
    expect(told('password', until('2027-01-01T00:00:00.000Z'), until('2026-01-01T00:00:00.000Z'))).toEqual(['warning ends-earlier'])
    expect(told('password', until('2027-01-01T00:00:00.000Z'), until(null))).toEqual([])
    expect(told('password', until(null), until('2026-01-01T00:00:00.000Z'))).toEqual([])
  })
})
