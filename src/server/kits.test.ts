import { createPrivateKey } from 'node:crypto'
import { beforeAll, describe, expect, it } from 'vitest'
import { type Maker, plantKit } from '../../tests/kits/make'
import { takeIn } from './intake/take-in'
import { type KitParts, storeKit, zipKit } from './kits'

let m: Maker
beforeAll(() => {
  m = plantKit()
}, 60_000)

const PHRASE = 'glaze 7 ü "slip"'
const parts = (name: string, ...chain: string[]): KitParts => ({
  certificate: [name, ...chain].map((n) => m.text(`${n}.crt`)).join(''),
  key: createPrivateKey(m.text(`${name}.key`))
    .export({ type: 'pkcs8', format: 'pem' })
    .toString(),
})
const sameKey = (pem: string, name: string) => createPrivateKey(pem).equals(createPrivateKey(m.text(`${name}.key`)))

describe.each([
  ['elliptic curve', 'kiln-7', ['works-between', 'works-root']],
  ['RSA', 'dryer-2', ['works-root']],
] as const)('a kit of a certificate with its key (%s)', (_what, name, chain) => {
  it('as a store that openssl opens, with the pass phrase and no other', async () => {
    m.write(`${name}.p12`, await storeKit(parts(name, ...chain), PHRASE))
    const open = (phrase: string, ...more: string[]) => m.openssl('pkcs12', '-in', `${name}.p12`, '-passin', `pass:${phrase}`, '-nodes', ...more)
    open(PHRASE, '-nocerts', '-out', 'out.key')
    open(PHRASE, '-nokeys', '-out', 'out.crt')
    expect(sameKey(m.text('out.key'), name)).toBe(true)
    expect(m.text('out.crt').match(/BEGIN CERTIFICATE/g)).toHaveLength(1 + chain.length)
    expect(() => open('glaze')).toThrow()
  })

  it('also where the pass phrase has letters beyond ASCII', async () => {
    const phrase = 'Glasür 7 €'
    const octets = await storeKit(parts(name, ...chain), phrase)
    m.write('wide.p12', octets)
    m.openssl('pkcs12', '-in', 'wide.p12', '-passin', `pass:${phrase}`, '-nodes', '-nocerts', '-out', 'wide.key')
    expect(sameKey(m.text('wide.key'), name)).toBe(true)
    const { sorted } = await takeIn([{ name: 'wide.p12', octets: new Uint8Array(octets) }], [phrase])
    expect(sorted.kits).toHaveLength(1)
  })

  it('as a zip of PEM files, its key locked', async () => {
    const zip = await zipKit(parts(name, ...chain), PHRASE)
    expect(zip.toString('latin1')).not.toContain('BEGIN PRIVATE KEY')
    const { sorted, locked } = await takeIn([{ name: 'kit.zip', octets: new Uint8Array(zip) }], [])
    expect([sorted.kits.length, locked.length]).toEqual([0, 1])
  })

  it('is taken in again, in both forms', async () => {
    for (const [file, octets] of [
      ['kit.p12', await storeKit(parts(name, ...chain), PHRASE)],
      ['kit.zip', await zipKit(parts(name, ...chain), PHRASE)],
    ] as const) {
      const { sorted } = await takeIn([{ name: file, octets: new Uint8Array(octets) }], [PHRASE])
      expect(sorted.kits).toHaveLength(1)
      expect(sameKey(sorted.kits[0]!.key.pem, name)).toBe(true)
      expect(sorted.kits[0]!.root).not.toBeNull()
    }
  })
})
