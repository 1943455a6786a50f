import type { MqttSettings } from '~/contract/destinations/mqtt'
import { accessOf, type MqttAccess } from '../../net/mqtt-access'
import type { LinkOptions } from '../../net/mqtt-link'
import type { DestinationTarget } from '../driver'

type Target = DestinationTarget<'mqtt'>

const proxy = (t: Target) => t.more?.proxyCredentialId ?? null

/** How the sender connects. */
export function senderAccess(t: Target): MqttAccess {
  return accessOf(t.settings, { authority: t.authority, credential: t.credential, proxy: proxy(t) }, t.settings.clientId)
}

/** How the witness connects: by credentials and a client id of its own. */
export function witnessAccess(t: Target): MqttAccess {
  return accessOf(t.settings, { authority: t.authority, credential: t.witnessCredential, proxy: proxy(t) }, t.settings.witnessClientId)
}

/** What the broker says when this sender is gone without a word; undefined: nothing was wished for. */
export function willOf(s: MqttSettings): LinkOptions['will'] {
  if (!s.willTopic) return undefined
  return {
    topic: s.willTopic,
    payload: new TextEncoder().encode(s.willPayload),
    qos: Number(s.willQos) as 0 | 1 | 2,
    retain: s.willRetain,
    delayS: s.willDelayS,
  }
}

/** Octets of a packet that is taken from the broker. */
export const packetMost = ({ packetKb = 65_536 }: Partial<MqttSettings>): number => packetKb * 1024

/** Everything that is said at the beginning of a connection: what differs in it needs another one. */
export function senderGreeting(t: Target) {
  const { otherHosts, redirects, sessionS, aliases, packetKb } = t.settings
  return { access: senderAccess(t), otherHosts, redirects, sessionS, aliases, packetKb, will: willOf(t.settings) }
}

export function witnessGreeting(t: Target) {
  const { otherHosts, packetKb } = t.settings
  return { access: witnessAccess(t), otherHosts, packetKb }
}
