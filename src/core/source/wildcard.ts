/**
 * Makes a test of paths from a pattern: `*` is any run of characters inside one level, `**` any levels at all, `?` one character;
 * everything else is itself, in either case. A pattern without a slash is looked for at the end of the path, in its last level.
 * `Zone ?/temperature` fits `Tunnel Kiln 1/Zone 4/temperature` only with `** /` before it (without the space), `temp*` fits it.
 */
export function wildcard(pattern: string): (path: string) => boolean {
  const text = pattern.trim()
  let source = ''
  for (let i = 0; i < text.length; i++) {
    const c = text[i]!
    if (c === '*' && text[i + 1] === '*') {
      i++
      // `**/` may stand for no level at all.
      if (text[i + 1] === '/') {
        i++
        source += '(?:[^/]*/)*'
      } else source += '.*'
    } else if (c === '*') source += '[^/]*'
    else if (c === '?') source += '[^/]'
    else source += c.replace(/[\\^$.|+()[\]{}]/g, '\\$&')
  }
  const whole = new RegExp(`^${text.includes('/') ? '' : '(?:.*/)?'}${source}$`, 'iu')
  return (path) => whole.test(path)
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
