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
