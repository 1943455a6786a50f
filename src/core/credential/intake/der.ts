import { type AsnType, BitString, Constructed, fromBER, Integer, ObjectIdentifier, OctetString, Sequence, UTCTime } from 'asn1js'
import type { ThingKind } from './found'

const DATA = '1.2.840.113549.1.7.1'
const SIGNED_DATA = '1.2.840.113549.1.7.2'

/** The value that the octets begin with; null: there is none that can be read. */
function valueIn(octets: Uint8Array): AsnType | null {
  try {
    const { result, offset } = fromBER(Uint8Array.from(octets).buffer)
    return offset === -1 ? null : (result as AsnType)
  } catch {
    // A time or a number in it that is none.
    return null
  }
}

const partsOf = (node: AsnType | undefined): AsnType[] => (node instanceof Sequence ? (node.valueBlock.value as AsnType[]) : [])
const numberOf = (node: AsnType | undefined): number | null =>
  node instanceof Integer && !node.valueBlock.isHexOnly ? node.valueBlock.valueDec : null
const idOf = (node: AsnType | undefined): string | null => (node instanceof ObjectIdentifier ? node.valueBlock.toString() : null)
const isTime = (node: AsnType | undefined): boolean => node instanceof UTCTime || node?.idBlock.tagNumber === 24
const isContext = (node: AsnType | undefined): boolean => node?.idBlock.tagClass === 3

/**
 * What octets are that hold one value in distinguished encoding (X.690), by its structure alone: certificates and lists (RFC 5280 4.1, 5.1),
 * requests (RFC 2986), keys (RFC 5208, 8017 A.1.2, 5915), public keys, PKCS#7 and PKCS#12; null: something else.
 */
export function derKind(octets: Uint8Array): ThingKind | null {
  if (octets.length < 16 || octets[0] !== 0x30) return null
  const result = valueIn(octets)
  if (!(result instanceof Sequence)) return null
  const [first, second, third] = partsOf(result)
  const id = idOf(first)
  if (id === SIGNED_DATA) return 'chain'
  if (id !== null) return null
  const version = numberOf(first)
  if (version === 3 && [DATA, SIGNED_DATA].includes(idOf(partsOf(second)[0]) ?? '')) return 'store'
  if (version !== null && partsOf(second).length > 0 && third instanceof OctetString) return 'key'
  if (version === 1 && second instanceof OctetString) return 'key'
  if (version !== null && version <= 1 && second instanceof Integer && partsOf(result).length >= 9) return 'key'
  if (!(first instanceof Sequence)) return null
  if (idOf(partsOf(first)[0]) !== null) return second instanceof BitString ? 'public-key' : second instanceof OctetString ? 'locked-key' : null
  return third instanceof BitString ? signedKind(partsOf(first)) : null
}

/** What is signed, by what stands in it. */
function signedKind(parts: readonly AsnType[]): ThingKind | null {
  const [first] = parts
  const inner = isContext(first) ? parts.slice(1) : parts
  const [a, b, c, d] = inner
  // Serial number, algorithm, issuer, validity.
  if (a instanceof Integer && b instanceof Sequence && c instanceof Sequence && isTime(partsOf(d)[0])) return 'certificate'
  // Version, subject, public key: attributes may be absent.
  if (a instanceof Integer && b instanceof Sequence && idOf(partsOf(partsOf(c)[0])[0]) !== null) return 'request'
  // A version perhaps, then algorithm, issuer, this update.
  const [algorithm, issuer, updated] = a instanceof Integer ? inner.slice(1) : inner
  return algorithm instanceof Sequence && issuer instanceof Sequence && isTime(updated) ? 'revocation' : null
}

/**
 * How often a pass phrase is to be hashed for what is locked, all its parts together (PBES2, RFC 8018 A.2; PKCS#12, RFC 7292 4): whoever made it
 * chose that, and it may be more than anybody has time for.
 */
export function roundsOf(der: Uint8Array, depth = 0): number {
  const result = depth > 4 ? null : valueIn(der)
  return result ? roundsIn(result, depth) : 0
}

function roundsIn(node: AsnType, depth: number): number {
  if (node instanceof OctetString && !node.idBlock.isConstructed) {
    const octets = node.valueBlock.valueHexView
    return octets[0] === 0x30 ? roundsOf(octets, depth + 1) : 0
  }
  if (!(node instanceof Constructed)) return 0
  const parts = node.valueBlock.value as AsnType[]
  let sum = 0
  parts.forEach((part, i) => {
    // Salt, then how often.
    if (part instanceof Integer && parts[i - 1] instanceof OctetString)
      sum += part.valueBlock.isHexOnly ? Number.POSITIVE_INFINITY : part.valueBlock.valueDec
    sum += roundsIn(part, depth)
  })
  return sum
}

/** How long the value is that the octets begin with, its head included; null: they begin with none, or it is not whole. */
export function derLength(octets: Uint8Array): number | null {
  const length = octets[1]
  if (octets[0] !== 0x30 || length === undefined) return null
  if (length < 0x80) return 2 + length <= octets.length ? 2 + length : null
  const count = length & 0x7f
  if (count === 0 || count > 4 || octets.length < 2 + count) return null
  let size = 0
  for (const octet of octets.subarray(2, 2 + count)) size = size * 256 + octet
  return 2 + count + size <= octets.length ? 2 + count + size : null
}

/** All values that stand one after the other in the octets. */
export function derValues(octets: Uint8Array): Uint8Array[] {
  const values: Uint8Array[] = []
  for (let at = 0; at < octets.length; ) {
    const length = derLength(octets.subarray(at))
    if (length === null) break
    values.push(octets.subarray(at, at + length))
    at += length
  }
  return values
}

/** Certificates of a PKCS#7 chain (RFC 2315 9.1), in its order. */
export function certificatesOf(chain: Uint8Array): Uint8Array[] {
  const [, content] = partsOf(valueIn(chain) ?? undefined)
  if (!(content instanceof Constructed)) return []
  const signed = partsOf((content.valueBlock.value as AsnType[])[0])
  const held = signed.find((part) => isContext(part) && part.idBlock.tagNumber === 0)
  if (!(held instanceof Constructed)) return []
  return (held.valueBlock.value as AsnType[]).map((one) => new Uint8Array(one.valueBeforeDecodeView)).filter((der) => derKind(der) === 'certificate')
}
