import { columnIndex } from '~/core/tag/columns'
import { liveColumns, quickKinds, type ViewQuery } from '~/core/tag/view'

/** Filters of columns have their column's name behind this. */
const COLUMN = 'of.'

const isColumn = (key: string): boolean => columnIndex.has(key) || (liveColumns as readonly string[]).includes(key)

export const everything: ViewQuery = { words: '', folder: null, sourceId: null, kind: null, filters: {}, sort: null }

/** Whether anything is sought in single columns. */
export const isFiltered = (query: ViewQuery): boolean => Object.values(query.filters).some((text) => text.trim() !== '')

/** What of the tags an address asks for. */
export function queryOf(params: URLSearchParams): ViewQuery {
  const filters: Record<string, string> = {}
  for (const [name, text] of params) if (name.startsWith(COLUMN) && isColumn(name.slice(COLUMN.length))) filters[name.slice(COLUMN.length)] = text
  const sort = params.get('sort')
  const column = sort?.replace(/^-/, '')
  return {
    words: params.get('q') ?? '',
    folder: params.get('folder'),
    sourceId: params.get('source'),
    kind: quickKinds.find((k) => k === params.get('kind')) ?? null,
    filters,
    sort: column && isColumn(column) ? { column, desc: sort!.startsWith('-') } : null,
  }
}

/** What stands in the address for it. */
export function addressOf(q: ViewQuery): Record<string, string | null> {
  return {
    q: q.words || null,
    folder: q.folder,
    source: q.sourceId,
    kind: q.kind,
    sort: q.sort && `${q.sort.desc ? '-' : ''}${q.sort.column}`,
    ...Object.fromEntries(Object.entries(q.filters).map(([column, text]) => [COLUMN + column, text.trim() === '' ? null : text])),
  }
}
