import { createPrivateKey } from 'node:crypto'
import forge from 'node-forge'
import { type CertBag, PFX, type PKCS8ShroudedKeyBag, type PrivateKeyInfo, type SafeBag, type SafeContents } from 'pkijs'
import { roundsOf } from '~/core/credential/intake/der'
import type { Thing } from '~/core/credential/intake/found'
import type { OpenKey } from '~/core/credential/intake/kits'
import { opened } from './keys'
import { storeCrypto } from './store-crypto'

/** What a store holds (RFC 7292), or why it stays shut. */
export type Store = { certificates: Uint8Array[]; keys: OpenKey[] } | { locked: 'no-phrase' | 'wrong-phrase' } | { useless: string }

/** Beginning of the old ways to lock (RFC 7292 C, 1.2.840.113549.1.12.1), as it stands in the encoding. */
const OLD = Buffer.from([0x06, 0x0a, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x0c, 0x01])
const BAG = '1.2.840.113549.1.12.10.1.'
const ENCRYPTED_DATA = '1.2.840.113549.1.7.6'

/** By so much longer one round takes in the old way, which is reckoned in scripts. */
const OLD_WEIGHT = 20
const isOld = (der: Uint8Array) => Buffer.from(der).includes(OLD)

/** How many rounds of hashing one try to open it takes, as long as they take in the new way. */
export const roundsOfStore = ({ der }: Thing): number => roundsOf(der) * (isOld(der) ? OLD_WEIGHT : 1)

/** Opens a store with the first pass phrase that fits; one without any is tried too. */
export async function openStore({ der, from }: Thing, phrases: readonly string[]): Promise<Store> {
  const old = isOld(der)
  let why = ''
  for (const phrase of [...phrases, '']) {
    try {
      return old ? oldStore(der, phrase, from) : await newStore(der, phrase, from)
    } catch (e) {
      why = e instanceof Error ? e.message : String(e)
    }
  }
  if (/integrity|mac|password|decrypt|operation/i.test(why)) return { locked: phrases.length === 0 ? 'no-phrase' : 'wrong-phrase' }
  return { useless: `This store cannot be read: ${why}` }
}

const octetsOf = (buffer: ArrayBuffer) => new Uint8Array(buffer)

async function newStore(der: Uint8Array, phrase: string, from: string): Promise<Store> {
  const password = octetsOf(new TextEncoder().encode(phrase).buffer as ArrayBuffer).buffer
  const pfx = PFX.fromBER(Uint8Array.from(der).buffer)
  await pfx.parseInternalValues({ password, checkIntegrity: pfx.macData !== undefined }, storeCrypto)
  const safe = pfx.parsedValue?.authenticatedSafe
  if (!safe) throw new Error('it holds nothing')
  await safe.parseInternalValues({
    safeContents: safe.safeContents.map((c) => (c.contentType === ENCRYPTED_DATA ? { password } : {})) as { password: ArrayBuffer }[],
  })
  const bags = (safe.parsedValue.safeContents as { value: SafeContents }[]).flatMap(({ value }) => value.safeBags)
  return {
    certificates: bags.filter((bag) => bag.bagId === `${BAG}3`).map((bag) => certificateOf(bag)),
    keys: bags.flatMap((bag) => keyOf(bag, phrase, from)),
  }
}

function certificateOf(bag: SafeBag): Uint8Array {
  const { certValue } = bag.bagValue as CertBag & { certValue: { valueBlock: { valueHexView: Uint8Array } } }
  return Uint8Array.from(certValue.valueBlock.valueHexView)
}

function keyOf(bag: SafeBag, phrase: string, from: string): OpenKey[] {
  if (bag.bagId !== `${BAG}1` && bag.bagId !== `${BAG}2`) return []
  const schema = (bag.bagValue as PrivateKeyInfo | PKCS8ShroudedKeyBag).toSchema() as unknown as { toBER(): ArrayBuffer }
  const passphrase = bag.bagId === `${BAG}2` ? { passphrase: phrase } : {}
  return [opened(createPrivateKey({ key: Buffer.from(schema.toBER()), format: 'der', type: 'pkcs8', ...passphrase }), from)]
}

/** Stores of the old kind (RC2, triple DES): their ways are not in the other library. */
function oldStore(der: Uint8Array, phrase: string, from: string): Store {
  const asn1 = forge.asn1.fromDer(forge.util.createBuffer(Buffer.from(der).toString('binary')))
  const bags = forge.pkcs12.pkcs12FromAsn1(asn1, false, phrase).safeContents.flatMap((c) => c.safeBags)
  const { certBag, keyBag, pkcs8ShroudedKeyBag } = forge.pki.oids
  const binary = (node: forge.asn1.Asn1) => Buffer.from(forge.asn1.toDer(node).getBytes(), 'binary')
  return {
    certificates: bags.filter((b) => b.type === certBag).map((b) => new Uint8Array(binary(b.asn1 ?? forge.pki.certificateToAsn1(b.cert!)))),
    keys: bags
      .filter((b) => b.type === keyBag || b.type === pkcs8ShroudedKeyBag)
      .map((b) => {
        const node = b.key ? forge.pki.wrapRsaPrivateKey(forge.pki.privateKeyToAsn1(b.key)) : b.asn1
        return opened(createPrivateKey({ key: binary(node), format: 'der', type: 'pkcs8' }), from)
      }),
  }
}
