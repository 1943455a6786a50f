/** Something in which two versions of a thing differ. */
export interface Difference {
  /** Names on the way to it: `shape.mode`, `headers.0.value`. */
  path: string
  theirs: string
  mine: string
}

const LONGEST = 80
const textOf = (value: unknown): string => {
  if (value === undefined || value === null || value === '') return 'nothing'
  if (Array.isArray(value)) return `${value.length} of them`
  const text = typeof value === 'object' ? JSON.stringify(value) : String(value)
  return text.length > LONGEST ? `${text.slice(0, LONGEST - 1)}…` : text
}
const isTree = (value: unknown): value is Record<string, unknown> => typeof value === 'object' && value !== null && !Array.isArray(value)

/** In what two versions differ, by the names of their parts; lists as a whole. */
export function differences(theirs: unknown, mine: unknown, path = ''): Difference[] {
  if (JSON.stringify(theirs) === JSON.stringify(mine)) return []
  if (!isTree(theirs) || !isTree(mine)) return [{ path, theirs: textOf(theirs), mine: textOf(mine) }]
  const names = [...new Set([...Object.keys(theirs), ...Object.keys(mine)])]
  return names.flatMap((name) => differences(theirs[name], mine[name], path === '' ? name : `${path}.${name}`))
}
