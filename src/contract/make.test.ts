import { describe, expect, it } from 'vitest'
import { HostName, IssueCertificate, MakeAuthority } from './make'

describe('what is to be made', () => {
  it.each(['broker.example', '*.hall.example', 'broker', '10.0.0.7', 'fd00::7', '::1', 'a-1.b'])('%s is a host', (host) =>
    expect(HostName.safeParse(host).success).toBe(true),
  )
  it.each(['', '999.1.1.1', '1.2.3', ':::::', 'fd00::zz', 'a b', '-a', 'a_b.example', '*.', 'brénnofen.example', 'a..b', '.a', 'https://a.example'])(
    '%s is none',
    (host) => expect(HostName.safeParse(host).success).toBe(false),
  )
  it('a server says under which hosts it is reached, names are names, days have an end', () => {
    const issue = { name: 'a', commonName: 'a', authorityId: '01890000-0000-7000-8000-000000000001' }
    expect(IssueCertificate.safeParse({ ...issue, use: 'server' }).error?.issues[0]?.path).toEqual(['hosts'])
    expect(IssueCertificate.safeParse({ ...issue, use: 'server', hosts: ['a.example'] }).success).toBe(true)
    for (const commonName of ['', '  ', 'a\u0000b', 'x'.repeat(65)]) expect(MakeAuthority.safeParse({ name: 'a', commonName }).success).toBe(false)
    for (const days of [0, 1.5, 7301, Number.NaN]) expect(MakeAuthority.safeParse({ name: 'a', commonName: 'a', days }).success).toBe(false)
  })
})
