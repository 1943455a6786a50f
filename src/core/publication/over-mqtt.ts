import type { MqttAddress } from '~/contract/addresses/mqtt'
import type { PublicationDraft } from '~/contract/publication'
import { mqttAddress } from '../address/kinds/mqtt'

/** A draft over MQTT with the fields of its address beside the others; what is not said is as drafts begin. */
export type OverMqtt = Omit<PublicationDraft, 'address' | 'steersOnly'> & Partial<Omit<MqttAddress, 'kind'>> & { steersOnly?: boolean }

/** For who writes drafts by hand: scripts, tests. */
export function overMqtt({
  name,
  equipmentIds,
  tags,
  rows,
  rule,
  trigger,
  pace,
  steps,
  shape,
  destinationId,
  steersOnly = false,
  ...address
}: OverMqtt): PublicationDraft {
  return {
    name,
    equipmentIds,
    ...(tags && { tags }),
    ...(rows && { rows }),
    ...(rule && { rule }),
    trigger,
    ...(pace && { pace }),
    ...(steps && { steps }),
    shape,
    destinationId,
    steersOnly,
    address: { ...mqttAddress.fresh, ...address },
  }
}

/** A draft as an older program kept it, with its address beside the rest, in the form of today; anything else as it is. */
export function revived(draft: unknown): unknown {
  if (typeof draft !== 'object' || draft === null || 'address' in draft || !('topic' in draft)) return draft
  const { key: _, ...flat } = draft as OverMqtt & { key?: string }
  return overMqtt(flat)
}
