/** How names of tags follow from where the tags were found. */
export interface NamingRule {
  /** So many levels of the path are left out, from the top. */
  drop: number
  /** Stands before what is left. */
  before: string
}

/**
 * Proposes a tag's name from a path: levels become folders. At least the last level stays; control characters go, as they may not
 * be in names. `proposeName(['cells', 'packing', 'stacker 1', 'rate'], { drop: 1, before: 'Works/' })` is `Works/packing/stacker 1/rate`.
 */
export function proposeName(levels: readonly string[], rule: NamingRule): string {
  const kept = levels.slice(Math.min(rule.drop, levels.length - 1))
  return (
    rule.before +
    kept
      .map((l) => l.replace(/\p{Cc}/gu, ' ').trim())
      .filter(Boolean)
      .join('/')
  ).trim()
}
