// A provider at which people log in (OpenID Connect Core 1.0, code flow; RFC 7636), with one person at a time and faults to be set.
import { createHash, randomBytes } from 'node:crypto'
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http'
import type { AddressInfo } from 'node:net'
import { exportJWK, generateKeyPair, SignJWT } from 'jose'

export interface ProviderFaults {
  /** The person says no. */
  denies?: boolean
  /** Its word is signed with a key that nobody knows. */
  foreignKey?: boolean
  /** Claims that its word says instead of the right ones. */
  says?: Record<string, unknown>
  /** It does not answer any more when it is asked for its word. */
  silent?: boolean
}

interface Given {
  challenge: string
  nonce: string
  redirect: string
}

/** Runs one; `person` is who logs in next, with all that is said of them. */
export async function startProvider(client: { id: string; secret: string }) {
  const { privateKey, publicKey } = await generateKeyPair('ES256')
  const foreign = (await generateKeyPair('ES256')).privateKey
  const jwk = { ...(await exportJWK(publicKey)), kid: 'one', alg: 'ES256', use: 'sig' }
  const codes = new Map<string, Given>()
  const state = { person: { sub: 'nobody' } as Record<string, unknown>, faults: {} as ProviderFaults, asked: [] as string[] }
  let issuer = ''

  const json = (res: ServerResponse, status: number, body: unknown) =>
    res.writeHead(status, { 'content-type': 'application/json' }).end(JSON.stringify(body))

  function authorize(url: URL, res: ServerResponse): void {
    const q = url.searchParams
    const back = new URL(q.get('redirect_uri') ?? '')
    back.searchParams.set('state', q.get('state') ?? '')
    if (state.faults.denies) back.searchParams.set('error', 'access_denied')
    else {
      const code = randomBytes(16).toString('hex')
      codes.set(code, { challenge: q.get('code_challenge') ?? '', nonce: q.get('nonce') ?? '', redirect: q.get('redirect_uri') ?? '' })
      back.searchParams.set('code', code)
    }
    res.writeHead(302, { location: back.href }).end()
  }

  async function token(req: IncomingMessage, res: ServerResponse): Promise<void> {
    let text = ''
    for await (const chunk of req) text += String(chunk)
    const form = new URLSearchParams(text)
    if (state.faults.silent) return
    // Both are written as in forms before they are put together (RFC 6749 2.3.1).
    const [id, secret] = Buffer.from((req.headers.authorization ?? '').replace(/^Basic /, ''), 'base64')
      .toString('utf8')
      .split(':')
      .map((part) => decodeURIComponent(part))
    if (id !== client.id || secret !== client.secret) return void json(res, 401, { error: 'invalid_client' })
    const code = form.get('code') ?? ''
    const given = codes.get(code)
    // A code is good once (RFC 6749 4.1.2).
    codes.delete(code)
    const challenge = createHash('sha256')
      .update(form.get('code_verifier') ?? '')
      .digest('base64url')
    if (!given || given.challenge !== challenge || given.redirect !== form.get('redirect_uri')) return void json(res, 400, { error: 'invalid_grant' })
    const now = Math.floor(Date.now() / 1000)
    const claims = { iss: issuer, aud: client.id, iat: now, exp: now + 60, nonce: given.nonce, ...state.person, ...state.faults.says }
    const word = await new SignJWT(claims).setProtectedHeader({ alg: 'ES256', kid: 'one' }).sign(state.faults.foreignKey ? foreign : privateKey)
    json(res, 200, { access_token: randomBytes(16).toString('hex'), token_type: 'Bearer', expires_in: 60, id_token: word })
  }

  const server = createServer((req, res) => {
    const url = new URL(req.url ?? '/', issuer)
    state.asked.push(url.pathname)
    if (url.pathname === '/.well-known/openid-configuration')
      json(res, 200, {
        issuer,
        authorization_endpoint: `${issuer}/authorize`,
        token_endpoint: `${issuer}/token`,
        jwks_uri: `${issuer}/keys`,
        response_types_supported: ['code'],
        subject_types_supported: ['public'],
        id_token_signing_alg_values_supported: ['ES256'],
        code_challenge_methods_supported: ['S256'],
      })
    else if (url.pathname === '/keys') json(res, 200, { keys: [jwk] })
    else if (url.pathname === '/authorize') authorize(url, res)
    else if (url.pathname === '/token') void token(req, res)
    else res.writeHead(404).end()
  })
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
  issuer = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  return {
    issuer,
    state,
    stop: () =>
      new Promise<void>((done) => {
        server.close(() => done())
        server.closeAllConnections()
      }),
  }
}
