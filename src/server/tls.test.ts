import { X509Certificate } from 'node:crypto'
import { mkdtempSync, readFileSync, statSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { describe, expect, it } from 'vitest'
import { makeServerCertificate } from '~/core/credential/self-signed'
import { answersTo, hostNames, serverCertificate } from './tls'

describe('names that a server answers to', () => {
  it('on loopback only loopback names, and those that are told', () => {
    const names = hostNames({})
    for (const host of ['127.0.0.1:4600', 'localhost', 'LOCALHOST:4600', '[::1]:4600']) expect(answersTo(names, host), host).toBe(true)
    for (const host of ['evil.test', 'evil.test:4600', '127.0.0.1.evil.test', '', undefined, 'localhost@evil.test'])
      expect(answersTo(names, host), String(host)).toBe(false)
    expect(answersTo(hostNames({ EMBRIK_HOSTS: 'Embrik.example, other' }), 'embrik.example:443')).toBe(true)
  })
  it('elsewhere any, unless they are told; behind a proxy too', () => {
    expect(hostNames({ EMBRIK_HOST: '0.0.0.0' })).toBeNull()
    expect(hostNames({ EMBRIK_PROXY_HOPS: '1' })).toBeNull()
    expect(answersTo(hostNames({ EMBRIK_HOST: '0.0.0.0', EMBRIK_HOSTS: 'embrik.example' }), 'evil.test')).toBe(false)
  })
})

describe('a certificate for HTTPS', () => {
  const home = () => mkdtempSync(join(tmpdir(), 'embrik-tls-'))
  it('is made for its names, kept for its owner only, and made anew when names come or its end is near', async () => {
    const env = { EMBRIK_TLS: 'own', EMBRIK_HOME: home() }
    const first = (await serverCertificate(env))!
    const read = new X509Certificate(first.cert)
    for (const [check, name] of [
      ['host', 'localhost'],
      ['ip', '127.0.0.1'],
      ['ip', '::1'],
    ] as const)
      expect(check === 'host' ? read.checkHost(name) : read.checkIP(name), name).toBeDefined()
    expect(statSync(join(env.EMBRIK_HOME, 'tls', 'key.pem')).mode & 0o77).toBe(0)
    expect((await serverCertificate(env))!.cert).toBe(first.cert)
    const named = (await serverCertificate({ ...env, EMBRIK_HOSTS: 'embrik.example' }))!
    expect(new X509Certificate(named.cert).checkHost('embrik.example')).toBe('embrik.example')
    const old = await makeServerCertificate(['localhost', '127.0.0.1', '::1', 'embrik.example'], Date.now() - 380 * 86_400_000)
    writeFileSync(join(env.EMBRIK_HOME, 'tls', 'certificate.pem'), old.certificate)
    expect((await serverCertificate({ ...env, EMBRIK_HOSTS: 'embrik.example' }))!.cert).not.toBe(old.certificate)
  })
  it('comes from files, both or none, or is not wanted', async () => {
    const folder = home()
    const { certificate, key } = await makeServerCertificate(['localhost'])
    writeFileSync(join(folder, 'c.pem'), certificate)
    writeFileSync(join(folder, 'k.pem'), key)
    expect(await serverCertificate({ EMBRIK_TLS_CERT: join(folder, 'c.pem'), EMBRIK_TLS_KEY: join(folder, 'k.pem') })).toMatchObject({
      cert: readFileSync(join(folder, 'c.pem'), 'utf8'),
      own: null,
    })
    await expect(serverCertificate({ EMBRIK_TLS_CERT: 'x' })).rejects.toThrow('belong together')
    await expect(serverCertificate({ EMBRIK_TLS: 'yes' })).rejects.toThrow('can be "own"')
    expect(await serverCertificate({})).toBeNull()
  })
})
