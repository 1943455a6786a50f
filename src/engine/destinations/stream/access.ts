import type { StreamSettings } from '~/contract/destinations/stream'
import { fail } from '~/contract/failure'
import { serversOf } from '~/contract/place'
import type { OpenCredential } from '~/store/credential'
import { trusted } from '../../net/peer-certificate'
import type { StreamAccess } from './cluster'

/** Settings with their credentials opened; for the driver only. */
export interface StreamTarget {
  settings: StreamSettings
  authority: OpenCredential | null
  credential: OpenCredential | null
  witnessCredential: OpenCredential | null
  more?: Readonly<Record<string, OpenCredential | null>>
}

/** How somebody connects: the sender, or the witness by a credential of its own. */
function accessOf({ settings: s, authority }: StreamTarget, credential: OpenCredential | null, clientId: string): StreamAccess {
  const certificate = credential?.kind === 'certificate' && credential.certificate && credential.secret ? credential : null
  const login = credential?.kind === 'password' ? credential : null
  if (s.mechanism !== 'none' && !login)
    throw fail(422, 'stream.login', `${s.mechanism} needs a user and a password`, 'Choose a log-in, not a certificate', 'destination')
  return {
    servers: serversOf(s.servers) ?? [],
    clientId,
    tls: s.tls
      ? {
          ...trusted(authority?.certificate),
          ...(certificate && { cert: certificate.certificate!, key: certificate.secret! }),
        }
      : null,
    login: s.mechanism === 'none' || !login ? null : { mechanism: s.mechanism, user: login.user ?? '', password: login.secret ?? '' },
    answerMs: s.ackS * 1000,
  }
}

export const senderAccess = (t: StreamTarget): StreamAccess => accessOf(t, t.credential, t.settings.clientId)
export const witnessAccess = (t: StreamTarget): StreamAccess => accessOf(t, t.witnessCredential, `${t.settings.clientId}-witness`)
