import { accessOf, type MqttAccess } from '../../net/mqtt-access'
import type { DestinationTarget } from '../driver'

/** How the sender connects. */
export function senderAccess(t: DestinationTarget<'mqtt'>): MqttAccess {
  return accessOf(t.settings, t.authority, t.credential, t.settings.clientId)
}

/** How the witness connects: by credentials and a client id of its own. */
export function witnessAccess(t: DestinationTarget<'mqtt'>): MqttAccess {
  return accessOf(t.settings, t.authority, t.witnessCredential, t.settings.witnessClientId)
}
