import type { Destination, DestinationKind } from '~/contract/destination'
import { datagram } from './kinds/datagram'
import { file } from './kinds/file'
import { http } from './kinds/http'
import { hub } from './kinds/hub'
import type { KindView } from './kinds/kind-view'
import { mqtt } from './kinds/mqtt'
import { stream } from './kinds/stream'
import { table } from './kinds/table'

const kinds: { [K in DestinationKind]: KindView<K> } = { mqtt, stream, http, table, file, datagram, hub }

/** In the order in which they are offered. */
export const destinationKinds = Object.keys(kinds) as DestinationKind[]

/** What pages show of a kind; the settings that it is given must be of that kind. */
export function kindView(kind: DestinationKind): KindView<DestinationKind> {
  return kinds[kind]
}

export const placeOf = (d: Pick<Destination, 'kind' | 'settings'>): string => kindView(d.kind).place(d.settings)
export const isWitnessed = (d: Pick<Destination, 'kind' | 'settings'>): boolean => kindView(d.kind).witnessed(d.settings)
