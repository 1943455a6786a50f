import type { Source, SourceKind } from '~/contract/source'
import { http } from './kinds/http'
import type { KindView } from './kinds/kind-view'
import { modbus } from './kinds/modbus'
import { mqtt } from './kinds/mqtt'
import { opcua } from './kinds/opcua'
import { simulated } from './kinds/simulated'
import { sql } from './kinds/sql'

const kinds: { [K in SourceKind]: KindView<K> } = { opcua, modbus, mqtt, sql, http, simulated }

export const kindList = Object.entries(kinds).map(([kind, view]) => ({ kind: kind as SourceKind, label: view.label, note: view.note }))

/** What pages show of a kind; the settings that it is given must be of that kind. */
export function kindView(kind: SourceKind): KindView<SourceKind> {
  return kinds[kind] as unknown as KindView<SourceKind>
}

export const placeOf = (s: Pick<Source, 'kind' | 'settings'>): string => kindView(s.kind).place(s.settings)

/** The page where tags are made of a source of this kind. */
export const tagsPageOf = (kind: SourceKind): string => kindView(kind).tags.page
