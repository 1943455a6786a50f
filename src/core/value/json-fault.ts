/** Deeper than this is no JSON for us. */
const DEPTH_MAX = 64
const NUMBER = /-?(?:0|[1-9]\d*)(?:\.\d+)?(?:[eE][+-]?\d+)?/y
/** Control characters, which stand in no text as they are (RFC 8259 7). */
const CONTROL = `${String.fromCharCode(0)}-${String.fromCharCode(31)}`
const TEXT = new RegExp(`"(?:[^"\\\\${CONTROL}]|\\\\(?:["\\\\/bfnrt]|u[0-9a-fA-F]{4}))*"`, 'y')
const WORD = /true|false|null/y
const SPACE = /[ \t\r\n]*/y

/**
 * Where a text stops being JSON (RFC 8259): the place of the first character that cannot stand there, its length when it ends
 * too soon, null when it is JSON. `jsonFaultAt('{"a":-}')` is 5. In time linear in its length.
 */
export function jsonFaultAt(text: string): number | null {
  let at = 0
  const take = (pattern: RegExp): boolean => {
    pattern.lastIndex = at
    if (!pattern.test(text)) return false
    at = pattern.lastIndex
    return true
  }
  const space = () => take(SPACE)
  const open: ('}' | ']')[] = []
  /** Whether a name of an object's field comes next. */
  const name = (): boolean => {
    space()
    if (!take(TEXT)) return false
    space()
    if (text[at] !== ':') return false
    at++
    return true
  }
  for (;;) {
    // A value.
    space()
    const first = text[at]
    if (first === '{' || first === '[') {
      if (open.length >= DEPTH_MAX) return at
      at++
      const close = first === '{' ? '}' : ']'
      space()
      if (text[at] !== close) {
        open.push(close)
        if (close === '}' && !name()) return at
        continue
      }
      at++
    } else if (!(take(TEXT) || take(NUMBER) || take(WORD))) return at
    // What may stand behind it.
    for (;;) {
      space()
      const close = open.at(-1)
      if (close === undefined) return at === text.length ? null : at
      if (text[at] === close) {
        open.pop()
        at++
        continue
      }
      if (text[at] !== ',') return at
      at++
      if (close === '}' && !name()) return at
      break
    }
  }
}
