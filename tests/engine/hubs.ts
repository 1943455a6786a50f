import { HubSettings } from '~/contract/destinations/hub'
import { HubProfile } from '~/contract/hub-profile'
import { certificateFacts } from '~/core/credential/certificate'
import { shippedProfiles } from '~/core/hub/shipped'
import { HubAuthority } from '~/standins/hub/authority'
import { Hub } from '~/standins/hub/hub'
import { Stream } from '~/standins/stream/stream'
import { addCredential } from '~/store/credential'
import type { Db } from '~/store/database'
import type { Vault } from '~/store/vault'
import { freePort } from './support'

export const UNIT = 'kiln-edge'

/** A hub that knows one unit, and the settings of a destination that speaks for it, with credentials kept in a database. */
export async function hubWithUnit({ db, vault }: { db: Db; vault: Vault }, by: 'token' | 'certificate', profile: object = {}, most?: number) {
  const authority = await HubAuthority.make('Hub root')
  const { certificate, key } = await authority.sign('hub', 'server')
  const stream = await Stream.start({ listeners: [{ name: 'plain', ports: [0] }], topics: { events: 2 }, ...(most !== undefined && { most }) })
  const port = await freePort()
  const hub = await Hub.start({ by, host: '127.0.0.1', port, tls: { certificate, key, ca: authority.root }, events: { stream, topic: 'events' } })
  const unit = hub.units.add(UNIT)!
  const keep = async (c: Parameters<typeof addCredential>[2]) => (await addCredential(db, vault, c)).id
  const root = { certificate: authority.root, facts: await certificateFacts(authority.root) }
  const authorityId = await keep({ name: `root ${by}`, kind: 'authority', ...root, user: null, secret: null })
  const used = HubProfile.parse({ ...shippedProfiles[by === 'token' ? 0 : 1], ...profile })
  /** A key of the unit, as a credential. */
  const ofKey = (secret: string) => ({ kind: 'token' as const, certificate: null, facts: null, user: used.user, secret, recipe: used.token })
  /** A new certificate of the unit, which the hub knows. */
  const signed = async () => {
    const own = await authority.sign(UNIT, 'client')
    unit.certificates.push(own.sha256)
    return { kind: 'certificate' as const, certificate: own.certificate, facts: await certificateFacts(own.certificate), user: null, secret: own.key }
  }
  const credentialId = await keep({ name: `unit ${by}`, ...(by === 'token' ? ofKey(unit.keys[0]) : await signed()) })
  const settings = HubSettings.parse({
    ...{ host: '127.0.0.1', port, profile: used, authorityId, unit: UNIT, credentialId, keepAliveS: 30, retryMs: 200, window: 100, ackS: 20 },
    ...{ witness: true, lateS: 30, eventsServers: stream.places('plain')[0]!, eventsTopic: 'events', eventsTls: false },
    ...{ witnessCredentialId: null, outboxMb: 50 },
  })
  return {
    ...{ hub, unit, authority, stream, settings, credentialId, ofKey, signed },
    async stop() {
      await hub.stop()
      await stream.stop()
    },
  }
}
