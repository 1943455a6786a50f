import { createHash, createPrivateKey, X509Certificate } from 'node:crypto'
import { mkdir } from 'node:fs/promises'
import { join } from 'node:path'
import { OPCUACertificateManager } from 'node-opcua-certificate-manager'
import {
  type ClientSession,
  type EndpointDescription,
  MessageSecurityMode,
  OPCUAClient,
  type OPCUAClientOptions,
  SecurityPolicy,
  type UserIdentityInfo,
  UserTokenType,
} from 'node-opcua-client'
import { type Failure, FailureError } from '~/contract/failure'
import {
  type OfferedEndpoint,
  type OpcUaSettings,
  SecurityPolicy as PolicyName,
  SecurityMode,
  type ShownCertificate,
  weakPolicies,
} from '~/contract/sources/opcua'
import { wordsOf } from '../../log'
import { reach } from '../../net/reach'
import type { SourceContext, SourceTarget } from '../driver'

export type OpcUaTarget = SourceTarget<'opcua'>

const modes: Record<OpcUaSettings['mode'], MessageSecurityMode> = {
  None: MessageSecurityMode.None,
  Sign: MessageSecurityMode.Sign,
  SignAndEncrypt: MessageSecurityMode.SignAndEncrypt,
}
const policies: Record<OpcUaSettings['policy'], SecurityPolicy> = {
  None: SecurityPolicy.None,
  Basic128Rsa15: SecurityPolicy.Basic128Rsa15,
  Basic256: SecurityPolicy.Basic256,
  Basic256Sha256: SecurityPolicy.Basic256Sha256,
  Aes128_Sha256_RsaOaep: SecurityPolicy.Aes128_Sha256_RsaOaep,
  Aes256_Sha256_RsaPss: SecurityPolicy.Aes256_Sha256_RsaPss,
}

/** Of a SHA-1 in hexadecimal digits. */
const SHA1_DIGITS = 40

let manager: Promise<OPCUACertificateManager> | null = null

/** One store for the whole engine. Which server certificate is right is decided by the pinned thumbprint, not by this store. */
function certificateManager(folder: string): Promise<OPCUACertificateManager> {
  manager ??= (async () => {
    const rootFolder = join(folder, 'opcua')
    await mkdir(rootFolder, { recursive: true })
    const m = new OPCUACertificateManager({ rootFolder, automaticallyAcceptUnknownCertificate: true })
    await m.initialize()
    return m
  })()
  return manager
}

/** The application URI that stands in a certificate. */
function uriOf(pem: string): string {
  return /URI:([^,\s]+)/.exec(new X509Certificate(pem).subjectAltName ?? '')?.[1] ?? 'urn:embrik'
}

export function thumbprintOf(certificate: Buffer | string): string {
  return createHash('sha1').update(new X509Certificate(certificate).raw).digest('hex')
}

/** By which a server is known again here. */
const pinOf = (certificate: Buffer | string): string => createHash('sha256').update(new X509Certificate(certificate).raw).digest('hex')

/** Whether it is the certificate that somebody decided on: by its SHA-256, or the SHA-1 by which that was done before. */
function isPinned(pin: string | undefined, certificate: Buffer): boolean {
  const wanted = pin?.toLowerCase() ?? ''
  return wanted !== '' && wanted === (wanted.length === SHA1_DIGITS ? thumbprintOf(certificate) : pinOf(certificate))
}

/** A certificate (DER, chain or not) as people compare it. */
export function shown(certificate: Buffer | null | undefined): ShownCertificate | null {
  if (!certificate || certificate.length === 0) return null
  const c = new X509Certificate(certificate)
  const line = (name: string) => name.split('\n').filter(Boolean).join(', ')
  const day = (text: string) => new Date(text).toISOString()
  return {
    thumbprint: thumbprintOf(certificate),
    sha256: pinOf(certificate),
    subject: line(c.subject),
    issuer: line(c.issuer),
    notBefore: day(c.validFrom),
    notAfter: day(c.validTo),
  }
}

const logins: Partial<Record<UserTokenType, OfferedEndpoint['logins'][number]>> = {
  [UserTokenType.Anonymous]: 'anonymous',
  [UserTokenType.UserName]: 'user',
  [UserTokenType.Certificate]: 'certificate',
  [UserTokenType.IssuedToken]: 'token',
}

/** What a server offers, as people choose from it. */
export function offered(endpoints: readonly EndpointDescription[]): OfferedEndpoint[] {
  return endpoints
    .filter((e) => (e.endpointUrl ?? '').startsWith('opc.tcp:'))
    .map((e): OfferedEndpoint => {
      const mode = MessageSecurityMode[e.securityMode] ?? 'Invalid'
      const policy = (e.securityPolicyUri ?? '').split('#').at(-1) ?? ''
      return {
        url: e.endpointUrl ?? '',
        mode,
        policy,
        weak: weakPolicies.some((w) => w === policy),
        known: SecurityMode.safeParse(mode).success && PolicyName.safeParse(policy).success,
        logins: [...new Set((e.userIdentityTokens ?? []).flatMap((t) => logins[t.tokenType] ?? []))],
        certificate: shown(e.serverCertificate),
        server: e.server?.applicationName?.text ?? '',
      }
    })
    .sort((a, b) => Number(a.weak) - Number(b.weak) || b.mode.length - a.mode.length)
}

export function hostAndPort(endpoint: string): { host: string; port: number } {
  const m = /^opc\.tcp:\/\/([^/:]+)(?::(\d+))?/.exec(endpoint)
  return { host: m?.[1] ?? '', port: Number(m?.[2] ?? 4840) }
}

async function baseOptions(ctx: SourceContext): Promise<OPCUAClientOptions> {
  const der = new X509Certificate(ctx.application.certificate).raw
  const key = createPrivateKey(ctx.application.key)
  return {
    applicationName: 'Embrik',
    applicationUri: uriOf(ctx.application.certificate),
    certificateKeyPairProvider: {
      getCertificate: () => der,
      getCertificateChain: () => [der],
      getPrivateKey: () => ({ hidden: key }),
    },
    clientCertificateManager: await certificateManager(ctx.workFolder),
    endpointMustExist: false,
    // Coming back is the supervisor's work: it says what it does and starts from a clean state.
    connectionStrategy: { maxRetry: 0, initialDelay: 100, maxDelay: 100 },
    keepSessionAlive: true,
    requestedSessionTimeout: 30_000,
    transportTimeout: 15_000,
    keepPendingSessionsOnDisconnect: false,
  } as OPCUAClientOptions
}

async function lookAt({ endpoint }: Pick<OpcUaSettings, 'endpoint'>): Promise<void> {
  const { host, port } = hostAndPort(endpoint)
  await reach.look(host, port)
}

/** Asks the server, without security, which endpoints it has (OPC 10000-4 5.5.4). */
export async function askEndpoints(settings: Pick<OpcUaSettings, 'endpoint'>, ctx: SourceContext): Promise<EndpointDescription[]> {
  await lookAt(settings)
  const client = OPCUAClient.create({ ...(await baseOptions(ctx)), securityMode: MessageSecurityMode.None, securityPolicy: SecurityPolicy.None })
  try {
    await client.connect(settings.endpoint)
    return await client.getEndpoints()
  } finally {
    await client.disconnect().catch(() => undefined)
  }
}

/** The endpoint that the settings ask for, or what the server offers instead. */
export function chooseEndpoint(endpoints: readonly EndpointDescription[], settings: OpcUaSettings): EndpointDescription {
  const found = endpoints.find((e) => e.securityMode === modes[settings.mode] && e.securityPolicyUri === policies[settings.policy])
  if (found) return found
  const offered = [...new Set(endpoints.map((e) => `${MessageSecurityMode[e.securityMode]} ${(e.securityPolicyUri ?? '').split('#').at(-1)}`))]
  throw new FailureError({
    code: 'opcua.endpoint',
    message: `The server does not offer ${settings.mode} with ${settings.policy}`,
    hint: offered.length > 0 ? `It offers: ${offered.join(', ')}` : 'It offers no endpoint at all: check the path of the endpoint',
    where: 'source',
  })
}

/** Refuses a server whose certificate nobody has trusted, somebody has refused, or that is another than the trusted one. */
export function demandTrusted(endpoint: EndpointDescription, settings: OpcUaSettings): { pin: string; old: boolean } | null {
  const certificate = endpoint.serverCertificate
  if (settings.mode === 'None' || !certificate || certificate.length === 0) return null
  const found = pinOf(certificate)
  const trusted = settings.serverThumbprint?.toLowerCase()
  const no = (code: string, message: string, hint: string) => new FailureError({ code, message, hint, where: 'source' })
  if (isPinned(settings.refusedThumbprint, certificate))
    throw no(
      'opcua.server-refused',
      `The certificate of the server (${found}) was refused by somebody here`,
      'If it is the right one after all, check the source and trust it',
    )
  if (!trusted)
    throw no(
      'opcua.server-unknown',
      `Nobody has trusted the certificate of the server yet: ${found}`,
      'Compare it with what the server shows of itself, then trust or refuse it',
    )
  if (!isPinned(trusted, certificate))
    throw no(
      'opcua.server-changed',
      `The server shows another certificate (${found}) than the trusted one (${trusted})`,
      'If the server was renewed, check the source and trust the new one; if not, something stands between',
    )
  return { pin: found, old: trusted.length === SHA1_DIGITS }
}

/** Opens the secure channel; rejects when the server won't have our certificate. */
export async function openChannel(endpoint: EndpointDescription, settings: OpcUaSettings, ctx: SourceContext): Promise<OPCUAClient> {
  await lookAt(settings)
  const client = OPCUAClient.create({
    ...(await baseOptions(ctx)),
    securityMode: modes[settings.mode],
    securityPolicy: policies[settings.policy],
    ...(settings.mode !== 'None' && endpoint.serverCertificate && { serverCertificate: endpoint.serverCertificate }),
  })
  try {
    await client.connect(settings.endpoint)
    return client
  } catch (e) {
    await client.disconnect().catch(() => undefined)
    throw e
  }
}

export function openSession(client: OPCUAClient, target: OpcUaTarget): Promise<ClientSession> {
  return client.createSession(identityOf(target))
}

function identityOf(target: OpcUaTarget): UserIdentityInfo {
  const { login, user } = target.settings
  if (login === 'user') return { type: UserTokenType.UserName, userName: user ?? '', password: target.password ?? '' }
  if (login === 'anonymous') return { type: UserTokenType.Anonymous }
  const { certificate, secret } = target.credential ?? {}
  if (!certificate || !secret)
    throw new FailureError({
      code: 'opcua.log-in',
      message: 'The chosen credential holds no certificate with a key',
      hint: 'Choose another one',
      where: 'source',
    })
  return { type: UserTokenType.Certificate, certificateData: new X509Certificate(certificate).raw, privateKey: secret }
}

/** Puts refusals of OPC UA servers (OPC 10000-4 7.39) into words with what to do. */
export function opcuaFailure(e: unknown, thumbprint: string): Failure {
  if (e instanceof FailureError) return e.failure
  const words = wordsOf(e)
  const known: [RegExp, string, string, string][] = [
    [
      /BadSecurityChecksFailed|BadCertificateUntrusted/i,
      'opcua.not-trusted',
      'The server refuses the certificate of Embrik',
      `Somebody there must trust it once: thumbprint ${thumbprint}. Then check again`,
    ],
    [/BadCertificateTimeInvalid/i, 'opcua.clock', 'The server finds the certificate not valid now', 'Compare the clocks of server and this machine'],
    [
      /BadUserAccessDenied|BadIdentityToken|user ?token|UserIdentity/i,
      'opcua.log-in',
      'The server refuses user or password',
      'Check user and password, or whether it allows this kind of log-in',
    ],
    [/BadTooManySessions/i, 'opcua.sessions', 'The server has no session left', 'Close another client, or raise its limit'],
    [
      /BadSecurityPolicyRejected|BadSecurityModeRejected/i,
      'opcua.policy',
      'The server refuses this security policy',
      'Choose another one that it offers',
    ],
    [/BadTcpEndpointUrlInvalid/i, 'opcua.path', 'The server does not know this endpoint', 'Check the path after the port'],
    [/timeout|ETIMEDOUT|timed out/i, 'opcua.silent', 'The server does not answer in time', 'It may be busy or behind a slow link: try again'],
    [
      /ECONNRESET|disconnected by third party|EPIPE|Connection Break|premature disconnection/i,
      'port.reset',
      'The server hangs up at once',
      'It, or something in between, refuses connections for now',
    ],
    [/ECONNREFUSED/i, 'port.refused', 'Nothing listens on that port', 'Check that the server is running'],
  ]
  for (const [pattern, code, message, hint] of known) if (pattern.test(words)) return { code, message, hint, where: 'source' }
  return { code: 'opcua.failed', message: words.slice(0, 300), hint: 'Check the connection step by step', where: 'source' }
}
