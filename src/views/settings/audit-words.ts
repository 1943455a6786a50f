import type { AuditRow } from '~/contract/audit'

/** `changeSource` reads as `change source`. */
export const actWords = (act: string): string => act.replace(/[A-Z]/g, (c) => ` ${c.toLowerCase()}`)

const text = (value: unknown): string => (typeof value === 'string' ? value : value === undefined ? 'nothing' : JSON.stringify(value))
const isObject = (v: unknown): v is Record<string, unknown> => typeof v === 'object' && v !== null && !Array.isArray(v)

/** Counters that grow with each change, and what is told by something beside it. */
const SILENT = new Set(['version', 'id', 'tagCount', 'publicationCount', 'usedBy', 'lastUsed', 'certificate', 'before', 'endsAt'])

/** What differs between before and after, as `settings.rateMs: 500 → 100`; of what is new or gone, all of it in short. */
export function differences(row: Pick<AuditRow, 'before' | 'after'>): string[] {
  const out: string[] = []
  const walk = (a: unknown, b: unknown, path: string) => {
    if (isObject(a) && isObject(b)) {
      for (const key of new Set([...Object.keys(a), ...Object.keys(b)]))
        if (!SILENT.has(key) && Object.hasOwn(b, key)) walk(a[key], b[key], path ? `${path}.${key}` : key)
    } else if (a === undefined && b === 'changed') out.push(`${path} changed`)
    else if (text(a) !== text(b)) out.push(`${path || 'value'}: ${text(a)} → ${text(b)}`)
  }
  if (isObject(row.before) && isObject(row.after)) walk(row.before, row.after, '')
  else if (isObject(row.after)) {
    for (const [key, value] of Object.entries(row.after)) if (!SILENT.has(key) && !isObject(value)) out.push(`${key}: ${text(value)}`)
  } else if (row.after !== null && row.after !== undefined) out.push(text(row.after))
  return out
}
