import type { Address, AddressKindName, AddressOfKind } from '~/contract/address'
import type { Destination } from '~/contract/destination'
import type { AddressKind, SentAs } from './kind'
import { datagramAddress } from './kinds/datagram'
import { fileAddress } from './kinds/file'
import { httpAddress } from './kinds/http'
import { hubAddress } from './kinds/hub'
import { mqttAddress } from './kinds/mqtt'
import { streamAddress } from './kinds/stream'
import { tableAddress } from './kinds/table'
import { placeMoved } from './topic-template'

/** Every kind of address: there is one for each kind of destination. */
export const addressKinds: { readonly [K in AddressKindName]: AddressKind<K> } = {
  mqtt: mqttAddress,
  stream: streamAddress,
  http: httpAddress,
  table: tableAddress,
  file: fileAddress,
  datagram: datagramAddress,
  hub: hubAddress,
}

/** The kind of an address, which takes it as its own. */
export function kindOf<K extends AddressKindName>(address: { kind: K }): AddressKind<K> {
  return addressKinds[address.kind] as unknown as AddressKind<K>
}

/** How a message of an address goes into the outbox, beside its texts. */
export const sentAs = (address: Address): SentAs => kindOf(address).sentAs(address)

/**
 * An address of another kind that keeps what has a meaning there: the place with its levels parted as there, and the fields that
 * both have. `lost` names what falls away and was not as drafts begin.
 */
export function moved<K extends AddressKindName>(from: Address, to: K): { address: AddressOfKind<K>; lost: string[] } {
  if (from.kind === to) return { address: from as AddressOfKind<K>, lost: [] }
  const here = kindOf(from)
  const there = kindOf<K>({ kind: to })
  const address: Record<string, unknown> = { ...there.fresh }
  const alien = here.alien || there.alien
  if (!alien) address.topic = placeMoved(from.topic, here.levels, there.levels)
  const lost: string[] = alien && from.topic !== here.fresh.topic ? [here.nouns[0]] : []
  const begun: Record<string, unknown> = here.fresh
  for (const [field, words] of Object.entries<string>(here.words)) {
    const value = (from as Record<string, unknown>)[field]
    if (field in there.words) address[field] = value
    else if (JSON.stringify(value) !== JSON.stringify(begun[field])) lost.push(words)
  }
  return { address: address as AddressOfKind<K>, lost }
}

/** The same for a destination: of its kind, and as near to what it was as that one can do. */
export function movedTo(from: Address, { kind, settings }: Pick<Destination, 'kind' | 'settings'>): { address: Address; lost: string[] } {
  const { address, lost } = moved(from, kind)
  const fitted = kindOf(address).fitted?.(address as never, settings as never)
  return fitted ? { address: fitted.address, lost: [...lost, ...fitted.lost] } : { address, lost }
}
