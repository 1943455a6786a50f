/** Where JSON nests deeper than `most` levels: a guard before the parser, which would take it. Null: nowhere. */
export function tooDeep(text: string, most: number): number | null {
  let depth = 0
  let inText = false
  for (let i = 0; i < text.length; i++) {
    const c = text.charCodeAt(i)
    if (inText) {
      if (c === 92) i++
      else if (c === 34) inText = false
    } else if (c === 34) inText = true
    else if (c === 123 || c === 91) {
      if (++depth > most) return i
    } else if (c === 125 || c === 93) depth--
  }
  return null
}
