/** Parts of a pattern: a character, any one, a run within a level, any run, any whole levels with their slash. */
const [THIS, ONE, RUN, ALL, LEVELS, END] = [0, 1, 2, 3, 4, 5]
const SLASH = 47

function partsOf(pattern: string): [kind: number, code: number][] {
  const out: [number, number][] = []
  const characters = [...pattern]
  for (let i = 0; i < characters.length; i++) {
    const c = characters[i]!
    const twice = c === '*' && characters[i + 1] === '*'
    if (twice) i++
    if (twice && characters[i + 1] === '/') {
      // `**/` may stand for no level at all.
      i++
      out.push([LEVELS, 0])
    } else if (c === '*') out.push([twice ? ALL : RUN, 0])
    else out.push([c === '?' ? ONE : THIS, c.codePointAt(0)!])
  }
  return out
}

/**
 * Makes a test of paths from a pattern: `*` is any run of characters inside one level, `**` any levels at all, `?` one character;
 * everything else is itself, in either case. A pattern without a slash is looked for at the end of the path, in its last level.
 * `Zone ?/temperature` fits `Tunnel Kiln 1/Zone 4/temperature` only with `** /` before it (without the space), `temp*` fits it.
 * Takes time in proportion to the lengths of pattern and path at most, whatever they are: all places in the pattern are followed at once.
 */
export function wildcard(pattern: string): (path: string) => boolean {
  const text = pattern.trim().toLowerCase()
  const parts = [...(text.includes('/') ? [] : [[LEVELS, 0] as const]), ...partsOf(text), [END, 0] as const]
  // What stands in it as it is must stand in the path: most that do not fit are told by that.
  const musts = parts
    .map(([kind, code]) => (kind === THIS ? String.fromCodePoint(code) : '\0'))
    .join('')
    .split('\0')
    .filter(Boolean)
  const kinds = Uint8Array.from(parts, ([kind]) => kind)
  const codes = Int32Array.from(parts, ([, code]) => code)
  // Two states a part: before it, and within a level that it passes over.
  const states = 2 * parts.length
  const seen = new Int32Array(states)
  let now = new Int32Array(states)
  let next = new Int32Array(states)
  let turn = 0
  let count = 0
  const add = (state: number) => {
    for (let at = state; seen[at] !== turn; at += 2) {
      seen[at] = turn
      next[count++] = at
      const kind = kinds[at >> 1]!
      if (at & 1 || kind < RUN || kind === END) return
    }
  }
  return (path) => {
    const lower = path.toLowerCase()
    if (!musts.every((part) => lower.includes(part))) return false
    turn++
    count = 0
    add(0)
    for (let i = 0; i < lower.length && count > 0; i++) {
      const code = lower.codePointAt(i)!
      if (code > 0xffff) i++
      const before = now
      now = next
      next = before
      const had = count
      turn++
      count = 0
      for (let n = 0; n < had; n++) {
        const state = now[n]!
        const kind = kinds[state >> 1]!
        if (kind === THIS) {
          if (codes[state >> 1] === code) add(state + 2)
        } else if (kind === LEVELS) add(code === SLASH ? state & ~1 : state | 1)
        else if (kind === ALL) add(state)
        else if (code !== SLASH && kind !== END) add(kind === RUN ? state : state + 2)
      }
    }
    return count > 0 && seen[states - 2] === turn
  }
}

/** A pattern like the one that found nothing, and how many paths it fits. */
export interface NearPattern {
  pattern: string
  count: number
}

/** For a pattern that fits nothing: up to three that are like it and do, the narrowest first. */
export function nearPatterns(pattern: string, paths: readonly string[]): NearPattern[] {
  const text = pattern.trim().replace(/^\/+|\/+$/g, '')
  const levels = text.split('/')
  if (levels.every((level) => /^\**$/.test(level))) return []
  const bare = (level: string) => (/^\*+$/.test(level) ? level : `*${level.replace(/^\*+|\*+$/g, '').replace(/[\s_-]+/g, '?')}*`)
  const anywhere = levels[0] === '**' ? text : `**/${text}`
  const loose = levels.map(bare).join('/')
  const looseAnywhere = loose.startsWith('**') ? loose : `**/${loose}`
  const tried = [anywhere, loose, looseAnywhere, `${looseAnywhere}/**`, `**/${bare(levels.at(-1)!)}`]
  const out: NearPattern[] = []
  for (const near of new Set(tried)) {
    if (near === text) continue
    const fits = wildcard(near)
    const count = paths.reduce((sum, path) => sum + Number(fits(path)), 0)
    if (count > 0 && !out.some((o) => o.count === count)) out.push({ pattern: near, count })
  }
  return out.sort((a, b) => a.count - b.count).slice(0, 3)
}
