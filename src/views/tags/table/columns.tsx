import type { ReactNode } from 'react'
import type { Tag } from '~/contract/tag'
import { type Surroundings, type TagColumn, tagColumns } from '~/core/tag/columns'
import type { ShownValue } from '../../app/live/live'
import { ageCell, nameCell, qualityCell, sparkCell, stateCell, timeCell, valueCell } from './cells'

/** A column of the table of tags: a setting that can be edited, or something live. */
export interface GridColumn {
  id: string
  label: string
  width: number
  right: boolean
  /** Can be sorted and filtered. */
  sorts: boolean
  /** The setting that it shows; null: live. */
  setting: TagColumn | null
  /** Null: the text of its setting. */
  cell: ((t: Tag, v: ShownValue | undefined, around: Surroundings) => ReactNode) | null
}

const live = (id: string, label: string, width: number, cell: GridColumn['cell'], more: Partial<GridColumn> = {}): GridColumn => ({
  id,
  label,
  width,
  right: false,
  sorts: true,
  setting: null,
  cell,
  ...more,
})
const widths: Record<string, number> = {
  name: 268,
  unit: 58,
  address: 210,
  description: 220,
  source: 130,
  signal: 200,
  id: 250,
  type: 80,
  low: 84,
  high: 84,
}
const setting = (c: TagColumn): GridColumn => ({
  id: c.key,
  label: c.label,
  width: widths[c.key] ?? 104,
  right: c.numeric,
  sorts: true,
  setting: c,
  cell: c.key === 'name' ? (t, _v, around) => nameCell(t, t.simulated || around.sourceKind.get(t.sourceId) === 'simulated') : null,
})
const byKey = new Map(tagColumns.map((c) => [c.key, c]))
const rest = tagColumns.filter((c) => c.key !== 'name' && c.key !== 'unit')

export const gridColumns: readonly GridColumn[] = [
  live('state', '', 32, stateCell, { sorts: false }),
  setting(byKey.get('name')!),
  live('value', 'Value', 98, valueCell, { right: true }),
  setting(byKey.get('unit')!),
  live('quality', 'Quality', 118, qualityCell),
  live('time', 'Device time', 118, timeCell, { right: true }),
  live('age', 'Age', 66, ageCell, { right: true }),
  live('spark', '10 min', 122, sparkCell, { sorts: false }),
  ...rest.map(setting),
]
export const gridColumn = new Map(gridColumns.map((c) => [c.id, c]))
export const shownAtFirst = new Set(['state', 'name', 'value', 'unit', 'quality', 'time', 'age', 'spark'])
