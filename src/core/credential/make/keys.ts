import 'reflect-metadata'
import * as x509 from '@peculiar/x509'
import type { KeyKind } from '~/contract/make'
import { pemOf } from '../intake/pem'

type Algorithm = EcKeyGenParams & EcdsaParams & RsaHashedKeyGenParams

const curve = (namedCurve: string, hash: string) => ({ name: 'ECDSA', namedCurve, hash }) as unknown as Algorithm
const rsa = (modulusLength: number) =>
  ({ name: 'RSASSA-PKCS1-v1_5', modulusLength, publicExponent: new Uint8Array([1, 0, 1]), hash: 'SHA-256' }) as unknown as Algorithm

const algorithms: Readonly<Record<KeyKind, Algorithm>> = {
  'P-256': curve('P-256', 'SHA-256'),
  'P-384': curve('P-384', 'SHA-384'),
  'RSA 2048': rsa(2048),
  'RSA 3072': rsa(3072),
  'RSA 4096': rsa(4096),
}

/** A key pair, and by which algorithm its private half signs. */
export async function newKeys(kind: KeyKind): Promise<{ keys: CryptoKeyPair; algorithm: Algorithm }> {
  const algorithm = algorithms[kind]
  return { keys: await crypto.subtle.generateKey(algorithm, true, ['sign', 'verify']), algorithm }
}

/** A private key as text: PKCS#8 (RFC 5958), not locked. */
export const keyPem = async (key: CryptoKey): Promise<string> => pemOf('PRIVATE KEY', new Uint8Array(await crypto.subtle.exportKey('pkcs8', key)))

/** The key of a certificate, to sign with; `key` is PKCS#8 in PEM. */
export async function signerOf(certificate: x509.X509Certificate, key: string): Promise<{ key: CryptoKey; algorithm: Algorithm }> {
  const of = certificate.publicKey.algorithm as { name: string; namedCurve?: string }
  const algorithm = of.namedCurve === undefined ? algorithms['RSA 2048'] : of.namedCurve === 'P-384' ? algorithms['P-384'] : algorithms['P-256']
  const [der] = x509.PemConverter.decode(key)
  return { key: await crypto.subtle.importKey('pkcs8', der!, algorithm, false, ['sign']), algorithm }
}
