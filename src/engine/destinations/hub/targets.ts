import { freshBroker, type MqttSettings } from '~/contract/destinations/mqtt'
import type { StreamSettings } from '~/contract/destinations/stream'
import { filledFor, type HubUnit } from '~/core/hub/profile'
import type { DestinationTarget } from '../driver'

type Target = DestinationTarget<'hub'>

export const unitOf = ({ settings: { host, port, unit } }: Pick<Target, 'settings'>): HubUnit => ({ host, port, unit })

/** A hub as the broker that it is to who sends. */
export function asBroker(t: Target): DestinationTarget<'mqtt'> {
  const { settings: s } = t
  const { profile } = s
  const settings: MqttSettings = {
    ...freshBroker,
    host: s.host,
    port: s.port,
    protocol: profile.protocol,
    tls: true,
    authorityId: s.authorityId,
    clientId: filledFor(profile.clientId, unitOf(t)),
    credentialId: s.credentialId,
    keepAliveS: s.keepAliveS,
    retryMs: s.retryMs,
    ackS: s.ackS,
    window: s.window,
    witness: false,
    lateS: s.lateS,
    witnessClientId: '',
    witnessCredentialId: null,
    outboxMb: s.outboxMb,
    outboxHours: s.outboxHours,
    drainPerS: s.drainPerS,
    journalHours: s.journalHours,
    journalMb: s.journalMb,
    proxy: s.proxy,
    proxyCredentialId: s.proxyCredentialId,
  }
  return { ...t, settings, witnessCredential: null }
}

/** The stream in which the hub has what it took, as who reads it back sees it. */
export function asStream(t: Target): DestinationTarget<'stream'> {
  const { settings: s } = t
  const settings: StreamSettings = {
    servers: s.eventsServers,
    tls: s.eventsTls,
    authorityId: s.eventsAuthorityId,
    clientId: s.unit,
    mechanism: s.eventsMechanism,
    credentialId: s.witnessCredentialId,
    acks: 'leader',
    compression: 'none',
    lingerMs: 5,
    batchKb: 256,
    retryMs: s.retryMs,
    ackS: s.ackS,
    window: s.window,
    witness: true,
    lateS: s.lateS,
    witnessCredentialId: s.witnessCredentialId,
    registryUrl: '',
    registryAuthorityId: null,
    registryCredentialId: null,
    outboxMb: s.outboxMb,
    outboxHours: s.outboxHours,
    drainPerS: s.drainPerS,
    journalHours: s.journalHours,
    journalMb: s.journalMb,
  }
  return { ...t, settings, authority: t.more?.eventsAuthorityId ?? null, credential: t.witnessCredential }
}
