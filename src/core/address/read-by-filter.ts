import type { AddressKind } from './kind'
import { matches, overlap, widen } from './topic-filter'
import { filterOf } from './topic-template'

/** How what lies at places with levels is read: by the narrowest filter that covers them all. */
export const readByFilter: Pick<AddressKind<'mqtt' | 'http' | 'hub'>, 'reads' | 'overlap' | 'mayBecome'> = {
  reads: (places, suffixes) => {
    const filters = places.flatMap((p) => ['', ...suffixes].map((suffix) => filterOf(p) + suffix))
    const filter = filters.reduce((a, b) => (a === '' ? b : a === b ? a : widen(a, b)), '')
    return filter === '' ? [] : [filter]
  },
  overlap,
  mayBecome: (resolved, place) => matches(filterOf(resolved), place),
}
