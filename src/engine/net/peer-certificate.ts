import { DEFAULT_CIPHERS, type SecureContextOptions } from 'node:tls'
import type { Failure } from '~/contract/failure'
import { wordsOf } from '../log'

const LISTS = /-----BEGIN X509 CRL-----[\s\S]*?-----END X509 CRL-----/g

/**
 * What is trusted where a connection is made, of an authority's PEM text (null: what this machine trusts): its certificates, and the
 * revocation lists that stand with them, without which nothing is accepted then (RFC 5280 6.3).
 */
export function trusted(pem: string | null | undefined): Pick<SecureContextOptions, 'ca' | 'crl' | 'ciphers'> {
  if (!pem) return {}
  const lists = pem.match(LISTS)
  return { ciphers: STRONG, ...(lists ? { ca: pem.replace(LISTS, ''), crl: lists } : { ca: pem }) }
}

/** As Node chooses, but keys of less than 112 bits of strength count for nothing: RSA under 2,048 bits (SSL_CTX_set_security_level(3)). */
const STRONG = `${DEFAULT_CIPHERS}:@SECLEVEL=2`

type Words = readonly [code: string, message: (whose: string) => string, hint: string]

const untrusted = (why: string): Words => [
  'authority',
  (whose) => `The certificate of ${whose} is not trusted here: ${why}`,
  'Choose the authority that signed it; the server may not send its chain',
]
const weak: Words = [
  'weak',
  (whose) => `The certificate of ${whose} has a key or a signature that is too weak`,
  'It must be made anew there: RSA with 2048 bits or an elliptic curve, signed with SHA-256',
]

/** Why a certificate is not accepted, by the code that OpenSSL and Node give (X509_verify_cert(3), "DIAGNOSTICS"). */
const known: Readonly<Record<string, Words>> = {
  CERT_HAS_EXPIRED: ['expired', (whose) => `The certificate of ${whose} has expired`, 'It must be renewed there; check the clock here too'],
  CERT_NOT_YET_VALID: ['not-yet', (whose) => `The certificate of ${whose} is not valid yet`, 'Check the clocks of both sides'],
  DEPTH_ZERO_SELF_SIGNED_CERT: untrusted('it signed itself'),
  SELF_SIGNED_CERT_IN_CHAIN: untrusted('its chain ends in another authority'),
  UNABLE_TO_VERIFY_LEAF_SIGNATURE: untrusted('its authority is not known'),
  UNABLE_TO_GET_ISSUER_CERT: untrusted('an authority between is missing'),
  UNABLE_TO_GET_ISSUER_CERT_LOCALLY: untrusted('its authority is not known'),
  CERT_SIGNATURE_FAILURE: untrusted('another authority of the same name signed it'),
  CERT_UNTRUSTED: untrusted('its authority is not known'),
  INVALID_CA: untrusted('who signed it may not sign'),
  INVALID_PURPOSE: [
    'purpose',
    (whose) => `The certificate of ${whose} may not be used by a server`,
    'Ask for one made for TLS server authentication',
  ],
  CERT_REVOKED: ['revoked', (whose) => `The certificate of ${whose} was taken back by its authority`, 'Do not connect: ask there for a new one'],
  UNABLE_TO_GET_CRL: [
    'list-missing',
    (whose) => `No revocation list here speaks of the certificate of ${whose}`,
    'With one list every authority of the chain needs its own: add them to the authority, or take the list out',
  ],
  CRL_HAS_EXPIRED: [
    'list-old',
    () => 'The revocation list here is out of date',
    'Replace it with the present one: under Credentials, at the authority',
  ],
  CRL_NOT_YET_VALID: ['list-not-yet', () => 'The revocation list here is not valid yet', 'Check the clock of this machine'],
  CRL_SIGNATURE_FAILURE: ['list-unsigned', () => 'The revocation list here is not signed by its authority', 'Ask for it again'],
  EE_KEY_TOO_SMALL: weak,
  CA_KEY_TOO_SMALL: weak,
  CA_MD_TOO_WEAK: weak,
}

/** The names that Node found in a certificate that is for another host: `DNS:a, IP Address:10.0.0.7`. */
function namesOf(e: unknown): string {
  const { cert } = e as { cert?: { subjectaltname?: string; subject?: { CN?: string } } }
  const names = (cert?.subjectaltname ?? '').split(', ').map((one) => one.replace(/^"?(DNS|IP Address):/, ''))
  return names.filter(Boolean).slice(0, 5).join(', ') || String(cert?.subject?.CN ?? '')
}

/** Why the certificate of whoever answers at `host` is not accepted, as `tls.CODE`; null: it is about something else. */
export function certificateFailure(e: unknown, host: string, where: Failure['where']): Failure | null {
  const { code = '' } = e as { code?: string }
  if (code === 'ERR_TLS_CERT_ALTNAME_INVALID') {
    const names = namesOf(e)
    return {
      code: 'tls.name',
      message: `The certificate of ${host} is for ${names === '' ? 'no host at all' : names}`,
      hint: names === '' ? 'It must be made anew there, with its names' : 'Use one of these names as host, or have one made for this name',
      where,
    }
  }
  const words = known[code] ?? (/(key|algorithm) too (small|weak)/i.test(wordsOf(e)) ? weak : null)
  return words ? { code: `tls.${words[0]}`, message: words[1](host), hint: words[2], where } : null
}
