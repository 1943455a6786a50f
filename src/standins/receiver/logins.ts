import { randomBytes } from 'node:crypto'
import type { PeerCertificate } from 'node:tls'

/** Who may come, with what, and what each may do there; nobody: everybody may all. */
export type Users = Readonly<Record<string, { secret: string; reads?: boolean; writes?: boolean }>>

interface May {
  reads: boolean
  writes: boolean
}

const decoded = (text: string) => new URLSearchParams(`x=${text}`).get('x') ?? ''

/** Log-ins by password, token or certificate, and tokens by the client credentials grant. */
export class Logins {
  private readonly tokens = new Map<string, { user: string; endsAt: number }>()
  /** How long tokens live, s. */
  lifeS = 60
  given = 0

  constructor(private readonly users: Users) {}

  who(authorization: string | undefined, certificate: PeerCertificate | undefined): May | null {
    if (Object.keys(this.users).length === 0) return { reads: true, writes: true }
    const name = certificate && Object.keys(certificate).length > 0 ? String(certificate.subject.CN) : this.named(authorization)
    const user = name !== null && Object.hasOwn(this.users, name) ? this.users[name] : undefined
    return user ? { reads: user.reads ?? true, writes: user.writes ?? true } : null
  }

  private named(authorization = ''): string | null {
    const basic = this.basic(authorization)
    if (basic) return basic
    const bearer = /^Bearer (.+)$/.exec(authorization)?.[1]
    if (bearer === undefined) return null
    const token = this.tokens.get(bearer)
    if (token) return token.endsAt > Date.now() ? token.user : null
    return Object.entries(this.users).find(([, { secret }]) => secret === bearer)?.[0] ?? null
  }

  private basic(authorization: string, form = false): string | null {
    const text = /^Basic (.+)$/.exec(authorization)?.[1]
    if (text === undefined) return null
    const [name = '', secret = ''] = Buffer.from(text, 'base64').toString('utf8').split(/:(.*)/s)
    const [user, said] = form ? [decoded(name), decoded(secret)] : [name, secret]
    return Object.hasOwn(this.users, user) && this.users[user]!.secret === said ? user : null
  }

  /** Null: not for this client. */
  token(authorization: string | undefined, body: string): object | null {
    const user = this.basic(authorization ?? '', true)
    if (!user || new URLSearchParams(body).get('grant_type') !== 'client_credentials') return null
    const text = randomBytes(24).toString('base64url')
    this.tokens.set(text, { user, endsAt: Date.now() + this.lifeS * 1000 })
    this.given++
    return { access_token: text, token_type: 'Bearer', expires_in: this.lifeS }
  }

  /** All tokens end now. */
  endTokens(): void {
    this.tokens.clear()
  }
}
