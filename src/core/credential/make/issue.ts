import 'reflect-metadata'
import * as x509 from '@peculiar/x509'
import type { CertificateUse, KeyKind, TakeBackReason } from '~/contract/make'
import { isAddress } from '../intake/host'
import { pemOf } from '../intake/pem'
import { keyPem, newKeys, signerOf } from './keys'

const DAY_MS = 86_400_000
/** Clocks differ: what is made is good a little before it is made, ms. */
const BEFORE_MS = 3_600_000

/** Whom a certificate is for. */
export interface Subject {
  commonName: string
  /** Empty: none. */
  organization: string
}

/** A certificate or a signing request, and its key: PEM. */
export interface Made {
  text: string
  key: string
}

/** An authority that signs: its own certificate and key, PEM. */
export interface Authority {
  certificate: string
  key: string
}

/** Thrown where an authority cannot sign what is asked of it. */
export class IssueError extends Error {
  constructor(
    readonly field: string,
    message: string,
    readonly hint: string,
  ) {
    super(message)
  }
}

/** As it was typed: in a plain string the library reads quotation marks and signs (RFC 4514). */
const nameOf = ({ commonName, organization }: Subject): x509.Name =>
  new x509.Name([{ CN: [{ utf8String: commonName }] }, ...(organization === '' ? [] : [{ O: [{ utf8String: organization }] }])])

/** 128 bits by chance, positive (RFC 5280 4.1.2.2): lower-case hex. */
function newSerial(): string {
  const octets = crypto.getRandomValues(new Uint8Array(16))
  octets[0] = (octets[0]! & 0x7f) | 0x40
  return [...octets].map((octet) => octet.toString(16).padStart(2, '0')).join('')
}

/** An authority that signs itself, for certificates but no further authorities (RFC 5280 4.2.1.9), at `now` (epoch ms). */
export async function makeAuthority(subject: Subject, o: { key: KeyKind; days: number; now: number }): Promise<Made> {
  const { keys, algorithm } = await newKeys(o.key)
  const certificate = await x509.X509CertificateGenerator.createSelfSigned({
    ...{ serialNumber: newSerial(), name: nameOf(subject), keys, signingAlgorithm: algorithm },
    notBefore: new Date(o.now - BEFORE_MS),
    notAfter: new Date(o.now + o.days * DAY_MS),
    extensions: [
      new x509.BasicConstraintsExtension(true, 0, true),
      new x509.KeyUsagesExtension(x509.KeyUsageFlags.keyCertSign | x509.KeyUsageFlags.cRLSign, true),
      await x509.SubjectKeyIdentifierExtension.create(keys.publicKey),
    ],
  })
  return { text: pemOf('CERTIFICATE', new Uint8Array(certificate.rawData)), key: await keyPem(keys.privateKey) }
}

/** What is wanted of a certificate that is no authority. */
export interface Leaf extends Subject {
  key: KeyKind
  use: CertificateUse
  hosts: readonly string[]
}

function extensionsOf({ key, use, hosts }: Leaf): x509.Extension[] {
  const { digitalSignature, keyEncipherment } = x509.KeyUsageFlags
  const { clientAuth, serverAuth } = x509.ExtendedKeyUsage
  const names = hosts.map((value) => ({ type: isAddress(value) ? ('ip' as const) : ('dns' as const), value }))
  return [
    new x509.BasicConstraintsExtension(false, undefined, true),
    new x509.KeyUsagesExtension(key.startsWith('RSA') ? digitalSignature | keyEncipherment : digitalSignature, true),
    new x509.ExtendedKeyUsageExtension(use === 'both' ? [serverAuth, clientAuth] : [use === 'client' ? clientAuth : serverAuth]),
    ...(names.length > 0 ? [new x509.SubjectAlternativeNameExtension(names)] : []),
  ]
}

/** A certificate with its key, signed by an authority, at `now` (epoch ms); it never outlives the authority. Throws `IssueError`. */
export async function issue(authority: Authority, leaf: Leaf, o: { days: number; now: number }): Promise<Made & { serial: string; notAfter: Date }> {
  const by = new x509.X509Certificate(authority.certificate)
  const notAfter = new Date(o.now + o.days * DAY_MS)
  // Times in certificates have no parts of seconds.
  if (+notAfter >= +by.notAfter + 1000) {
    const left = Math.floor((+by.notAfter + 1000 - o.now) / DAY_MS)
    throw new IssueError('days', `The authority itself ends in ${left} days`, left > 0 ? `Ask for ${left} days at most` : 'Make another authority')
  }
  const [{ keys }, signer] = await Promise.all([newKeys(leaf.key), signerOf(by, authority.key)])
  const serial = newSerial()
  const certificate = await x509.X509CertificateGenerator.create({
    ...{ serialNumber: serial, subject: nameOf(leaf), issuer: by.subjectName, publicKey: keys.publicKey },
    ...{ signingKey: signer.key, signingAlgorithm: signer.algorithm, notBefore: new Date(o.now - BEFORE_MS), notAfter },
    extensions: [
      ...extensionsOf(leaf),
      await x509.SubjectKeyIdentifierExtension.create(keys.publicKey),
      await x509.AuthorityKeyIdentifierExtension.create(by.publicKey),
    ],
  })
  return { text: pemOf('CERTIFICATE', new Uint8Array(certificate.rawData)), key: await keyPem(keys.privateKey), serial, notAfter }
}

/** A signing request for somebody else's authority (PKCS#10, RFC 2986), with its key. */
export async function makeRequest(leaf: Leaf): Promise<Made> {
  const { keys, algorithm } = await newKeys(leaf.key)
  const request = await x509.Pkcs10CertificateRequestGenerator.create({
    ...{ name: nameOf(leaf), keys, signingAlgorithm: algorithm, extensions: extensionsOf(leaf) },
  })
  return { text: pemOf('CERTIFICATE REQUEST', new Uint8Array(request.rawData)), key: await keyPem(keys.privateKey) }
}

/** A certificate that was taken back. */
export interface TakenBack {
  serial: string
  at: Date
  reason: TakeBackReason
}

/** The revocation list of an authority (RFC 5280 5), at `now` (epoch ms). It is good as long as the authority: whenever something is taken back it is made anew. */
export async function makeList(authority: Authority, all: readonly TakenBack[], now: number): Promise<string> {
  const by = new x509.X509Certificate(authority.certificate)
  const signer = await signerOf(by, authority.key)
  const list = await x509.X509CrlGenerator.create({
    ...{ issuer: by.subjectName, thisUpdate: new Date(now - BEFORE_MS), nextUpdate: by.notAfter },
    ...{ signingKey: signer.key, signingAlgorithm: signer.algorithm },
    extensions: [await x509.AuthorityKeyIdentifierExtension.create(by.publicKey)],
    entries: all.map(({ serial, at, reason }) => ({ serialNumber: serial, revocationDate: at, reason: x509.X509CrlReason[reason] })),
  })
  return pemOf('X509 CRL', new Uint8Array(list.rawData))
}
