import type { WordRole } from '~/contract/intake'

/** What a thing among what was handed over is. */
export type ThingKind =
  | 'certificate'
  | 'key'
  /** A private key that asks for a pass phrase. */
  | 'locked-key'
  | 'public-key'
  /** A signing request (PKCS#10). */
  | 'request'
  /** A revocation list (RFC 5280 5). */
  | 'revocation'
  /** Certificates one after the other (PKCS#7, RFC 2315). */
  | 'chain'
  /** Certificates and keys behind a pass phrase (PKCS#12, RFC 7292). */
  | 'store'

export interface Thing {
  kind: ThingKind
  /** Where it stood: the file, and the place in it. */
  from: string
  /** Distinguished encoding (X.690). */
  der: Uint8Array
  /** As it stood, where the encoding alone does not tell all: a key that is locked in the old way (RFC 1421 4.6). */
  pem?: string
}

export interface Word {
  kind: 'word'
  from: string
  role: WordRole
  /** As it was called there; empty: it had no name. */
  name: string
  value: string
}

/** Something that begins like a thing and cannot be read. */
export interface Broken {
  kind: 'broken'
  from: string
  why: string
  hint: string
}

export type Found = Thing | Word | Broken
