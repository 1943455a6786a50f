import { readFileSync } from 'node:fs'
import * as oidc from 'openid-client'
import { fail } from '~/contract/failure'
import { allows, type Role, roles as roleNames } from '~/contract/role'
import type { Vault } from '~/store/vault'

/** Somebody may take so long to log in at the provider, ms. */
const BEGUN_MS = 600_000
/** What the provider said of itself is asked for again after so long, ms. */
const DISCOVERED_MS = 600_000
const PLACE = 'sign-on begun'

/** How people log in at the provider of their company (OpenID Connect Core 1.0, code flow with PKCE). */
export interface SignOnSettings {
  issuer: URL
  clientId: string
  clientSecret: string | null
  /** How the log-in page calls it. */
  label: string
  scope: string
  /** Where its roles stand in the claims: names by dots. */
  claim: string
  /** Which value gives which role; `*` is anybody. */
  roles: ReadonlyMap<string, Role>
}

const wrong = (setting: string, words: string) => new Error(`${setting}: ${words}`)

/**
 * Reads `EMBRIK_SIGN_ON_*`; null: people log in with passwords only. Throws what is wrong with a setting.
 * `EMBRIK_SIGN_ON_ROLES` says `works-admins=administrator, kiln-team=engineer, *=viewer`.
 */
export function signOnSettings(env: NodeJS.ProcessEnv): SignOnSettings | null {
  const issuer = env.EMBRIK_SIGN_ON_ISSUER?.trim()
  if (!issuer) return null
  if (!URL.canParse(issuer)) throw wrong('EMBRIK_SIGN_ON_ISSUER', `${issuer} is no address`)
  const url = new URL(issuer)
  if (url.protocol !== 'https:' && !isHere(url)) throw wrong('EMBRIK_SIGN_ON_ISSUER', 'it must be https, but for a provider on this machine')
  const clientId = env.EMBRIK_SIGN_ON_CLIENT?.trim()
  if (!clientId) throw wrong('EMBRIK_SIGN_ON_CLIENT', 'the client id under which the provider knows Embrik is missing')
  const file = env.EMBRIK_SIGN_ON_SECRET_FILE
  const secret = (file ? readFileSync(file, 'utf8') : env.EMBRIK_SIGN_ON_SECRET)?.trim()
  const roles = new Map<string, Role>()
  for (const pair of (env.EMBRIK_SIGN_ON_ROLES ?? '').split(',').filter((p) => p.trim() !== '')) {
    const at = pair.lastIndexOf('=')
    const role = roleNames.find((r) => r === pair.slice(at + 1).trim())
    if (at < 1 || !role) throw wrong('EMBRIK_SIGN_ON_ROLES', `${pair.trim()} is not like kiln-team=engineer (roles: ${roleNames.join(', ')})`)
    roles.set(pair.slice(0, at).trim(), role)
  }
  if (roles.size === 0) throw wrong('EMBRIK_SIGN_ON_ROLES', 'it says who gets which role, like kiln-team=engineer, *=viewer')
  return {
    issuer: url,
    clientId,
    clientSecret: secret || null,
    label: env.EMBRIK_SIGN_ON_NAME?.trim() || 'your company account',
    scope: env.EMBRIK_SIGN_ON_SCOPE?.trim() || 'openid profile email',
    claim: env.EMBRIK_SIGN_ON_CLAIM?.trim() || 'roles',
    roles,
  }
}

const isHere = (url: URL) => url.protocol === 'http:' && ['localhost', '127.0.0.1', '[::1]'].includes(url.hostname)

/** The highest role that the claims give; null: none. */
export function roleOf(claims: Readonly<Record<string, unknown>>, { claim, roles }: Pick<SignOnSettings, 'claim' | 'roles'>): Role | null {
  let found: unknown = claims
  // A claim whose own name has dots (an address, say) goes before one that nests.
  if (Object.hasOwn(claims, claim)) found = claims[claim]
  else
    for (const part of claim.split('.'))
      found = typeof found === 'object' && found !== null && Object.hasOwn(found, part) ? (found as Record<string, unknown>)[part] : undefined
  const values = (Array.isArray(found) ? found : typeof found === 'string' ? found.split(/\s+/) : []).filter((v) => typeof v === 'string')
  let highest: Role | null = null
  for (const [value, role] of roles) {
    if (value !== '*' && !values.includes(value)) continue
    if (highest === null || allows(role, highest)) highest = role
  }
  return highest
}

/** What is kept in the browser while somebody is at the provider, sealed. */
interface Begun {
  state: string
  nonce: string
  verifier: string
  next: string
  at: number
}

/** Who came back. */
export interface SignedOn {
  issuer: string
  subject: string
  name: string
  /** What they are called there; not necessarily free here. */
  login: string
  role: Role
  next: string
}

/** The way to the provider and back. */
export class SignOn {
  private found: { at: number; configuration: Promise<oidc.Configuration> } | null = null

  constructor(
    readonly settings: SignOnSettings,
    private readonly vault: Vault,
    private readonly now: () => number = Date.now,
  ) {}

  private discover(): Promise<oidc.Configuration> {
    const { issuer, clientId, clientSecret } = this.settings
    if (this.found && this.now() - this.found.at < DISCOVERED_MS) return this.found.configuration
    const configuration = oidc
      .discovery(issuer, clientId, undefined, clientSecret === null ? oidc.None() : oidc.ClientSecretBasic(clientSecret), {
        timeout: 10,
        // The signature of its word is checked too, though it comes over a line of its own (OpenID Connect Core 1.0 3.1.3.7).
        execute: [oidc.enableNonRepudiationChecks, ...(isHere(issuer) ? [oidc.allowInsecureRequests] : [])],
      })
      .catch((e: unknown) => {
        this.found = null
        throw fail(502, 'sign-on.away', `The provider does not say who it is: ${words(e)}`, 'Log in with a password, or tell whoever runs it', 'web')
      })
    this.found = { at: this.now(), configuration }
    return configuration
  }

  /** Where to send the browser, and what it keeps meanwhile. `back` is the address that the provider sends it to then. */
  async begin(back: string, next: string): Promise<{ url: URL; kept: string }> {
    const configuration = await this.discover()
    const begun: Begun = { state: oidc.randomState(), nonce: oidc.randomNonce(), verifier: oidc.randomPKCECodeVerifier(), next, at: this.now() }
    const url = oidc.buildAuthorizationUrl(configuration, {
      redirect_uri: back,
      scope: this.settings.scope,
      state: begun.state,
      nonce: begun.nonce,
      code_challenge: await oidc.calculatePKCECodeChallenge(begun.verifier),
      code_challenge_method: 'S256',
    })
    return { url, kept: this.vault.seal(JSON.stringify(begun), PLACE).toString('base64url') }
  }

  /** Who somebody is that comes back to `at` with what this browser kept. Throws why they may not come in. */
  async end(at: URL, kept: string | null): Promise<SignedOn> {
    const begun = this.begun(kept)
    const configuration = await this.discover()
    let claims: oidc.IDToken | undefined
    try {
      const tokens = await oidc.authorizationCodeGrant(configuration, at, {
        pkceCodeVerifier: begun.verifier,
        expectedState: begun.state,
        expectedNonce: begun.nonce,
        idTokenExpected: true,
      })
      claims = tokens.claims()
    } catch (e) {
      throw fail(
        401,
        'sign-on.refused',
        `The log-in there was not accepted: ${words(e)}`,
        'Begin anew; if it stays so, tell whoever runs the provider',
        'web',
      )
    }
    if (!claims) throw fail(401, 'sign-on.refused', 'The provider does not say who you are', 'Tell whoever runs it', 'web')
    const role = roleOf(claims, this.settings)
    if (role === null)
      throw fail(
        403,
        'sign-on.role',
        'You are known there, and have no role here',
        `Ask for one that Embrik takes (claim ${this.settings.claim})`,
        'web',
      )
    const text = (...names: string[]) => names.map((n) => claims[n]).find((v): v is string => typeof v === 'string' && v.trim() !== '')
    const login = text('preferred_username', 'email', 'name') ?? claims.sub
    return { issuer: claims.iss, subject: claims.sub, name: text('name', 'preferred_username', 'email') ?? claims.sub, login, role, next: begun.next }
  }

  private begun(kept: string | null): Begun {
    const anew = () => fail(400, 'sign-on.begun', 'This log-in was not begun in this browser, or too long ago', 'Begin anew', 'web')
    if (kept === null) throw anew()
    let begun: Begun
    try {
      begun = JSON.parse(this.vault.open(Buffer.from(kept, 'base64url'), PLACE)) as Begun
    } catch {
      throw anew()
    }
    if (this.now() - begun.at > BEGUN_MS) throw anew()
    return begun
  }
}

/** The error of a library in a sentence, without what it was given. */
function words(e: unknown): string {
  if (!(e instanceof Error)) return 'no reason is known'
  const { error, error_description: description } = e as { error?: unknown; error_description?: unknown }
  const told = [error, description].filter((t): t is string => typeof t === 'string').join(': ')
  const cause = e.cause instanceof Error ? `: ${e.cause.message}` : ''
  return (told || `${e.message}${cause}`).slice(0, 200)
}
