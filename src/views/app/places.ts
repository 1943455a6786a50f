import { type StationId, settingsPages, stations } from './stations'

/** A page of the interface: where it is, to which station it belongs, and what it is called there. */
export interface Place {
  path: string
  station: StationId | null
  page: string
  title: string
}

export const places: readonly Place[] = [
  ...stations.flatMap((s) =>
    s.pages.map(
      (p): Place => ({ path: p.href, station: s.id, page: p.label, title: p.href === s.href ? s.label : `${p.label}, ${s.label.toLowerCase()}` }),
    ),
  ),
  ...settingsPages.map((p): Place => ({ path: p.href, station: null, page: p.label, title: p.label })),
]

/** The page at a path; null: there is none. */
export const placeAt = (path: string): Place | null => places.find((p) => p.path === path.replace(/(.)\/$/, '$1')) ?? null
