import type { SecureContextOptions } from 'node:tls'
import { type HttpSettings, webAddress } from '~/contract/destinations/http'
import { fail } from '~/contract/failure'
import type { OpenCredential } from '~/store/credential'
import type { Clock } from '../../clock/clock'
import { trusted } from '../../net/peer-certificate'
import { Web, type WebAccess } from '../../net/web'
import { Tokens } from './tokens'

/** Settings with their credentials opened; for the driver only. */
export interface HttpTarget {
  settings: HttpSettings
  authority: OpenCredential | null
  credential: OpenCredential | null
  witnessCredential: OpenCredential | null
}

/** Who makes requests, and how. */
export interface WebUser extends WebAccess {
  /** Said with each request; null: by a token that is fetched. */
  authorization: string | null
  oauth: { url: URL; id: string; secret: string; scope: string } | null
}

/** What is used of an own credential for a way to log in. */
function userOf({ settings: s, authority }: HttpTarget, credential: OpenCredential | null, parallel: number): WebUser {
  const tls: SecureContextOptions = { ...trusted(authority?.certificate) }
  if (s.loginBy === 'certificate') {
    if (credential?.kind !== 'certificate' || !credential.certificate || !credential.secret)
      throw fail(
        422,
        'http.login',
        'The log-in by certificate needs a certificate with its key',
        'Choose one, or another way to log in',
        'destination',
      )
    Object.assign(tls, { cert: credential.certificate, key: credential.secret })
  } else if (s.loginBy !== 'none' && credential?.kind !== 'password')
    throw fail(422, 'http.login', `The log-in by ${s.loginBy} needs a user and a password`, 'Choose a log-in, not a certificate', 'destination')
  const [user, secret] = [credential?.user ?? '', credential?.secret ?? '']
  const tokenUrl = s.loginBy === 'oauth' ? webAddress(s.tokenUrl) : null
  return {
    tls: Object.keys(tls).length > 0 ? tls : null,
    answerMs: s.ackS * 1000,
    parallel,
    authorization:
      s.loginBy === 'basic' ? `Basic ${Buffer.from(`${user}:${secret}`).toString('base64')}` : s.loginBy === 'bearer' ? `Bearer ${secret}` : null,
    oauth: tokenUrl && { url: tokenUrl, id: user, secret, scope: s.scope },
  }
}

export const senderUser = (t: HttpTarget): WebUser => userOf(t, t.credential, t.settings.parallel)
export const witnessUser = (t: HttpTarget): WebUser => userOf(t, t.witnessCredential ?? t.credential, 1)

/** Somebody who is logged in, or will be with the first request. */
export interface WebSession {
  web: Web
  tokens: Tokens | null
  /** What says who we are; fetches a token where it is due. */
  authorization(): Promise<Record<string, string>>
  close(): void
}

export function sessionOf(user: WebUser, clock: Clock): WebSession {
  const web = new Web(user, clock)
  const tokens = user.oauth && new Tokens(web, user.oauth, clock)
  return {
    web,
    tokens,
    authorization: async (): Promise<Record<string, string>> => {
      const said = tokens ? `Bearer ${await tokens.current()}` : user.authorization
      if (said === null) return {}
      return { authorization: said }
    },
    close: () => web.close(),
  }
}
