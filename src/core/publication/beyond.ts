import type { Destination } from '~/contract/destination'
import type { Finding, PublicationDraft } from '~/contract/publication'
import { kindOf } from '../address/kinds'
import { isFramed } from '../shape/framed'
import { shapeOf } from '../shape/registry'

const stop = (section: Finding['section'], message: string, hint: string): Finding[] => [{ severity: 'stops', section, message, hint }]

/** What a destination cannot do for an address or a shape; null: nobody knows yet which it is. */
export function beyond(
  { address, shape, ahead }: Pick<PublicationDraft, 'address' | 'shape' | 'ahead'>,
  to: Pick<Destination, 'name' | 'kind' | 'settings'> | null,
): Finding[] {
  const { fixed, label } = shapeOf(shape)
  if (fixed && address.kind !== 'mqtt')
    return stop('shape', `${label} lives in sessions with a broker`, 'Take another shape, or a destination over MQTT')
  if (isFramed(shape) && !kindOf(address).numbersSchemas)
    return stop('shape', 'Only a stream has a registry that gives schemas their numbers', 'Take another frame, or a stream as destination')
  if (!to) return []
  if (to.kind !== address.kind) return stop('through', `The address is none for ${to.name}`, 'Choose the destination again: the address follows it')
  const { together } = kindOf(address)
  return [
    ...kindOf(address).beyond(address, shape, to.settings),
    ...(ahead && together !== null ? stop('safely', `Nothing goes ahead of others to ${to.name}: ${together}`, 'Let it wait with the others') : []),
  ]
}
