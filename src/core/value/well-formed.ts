const TORN = /\p{Surrogate}/gu

/** Whether a text holds half of a surrogate pair alone, which is no character and has no place in UTF-8 (Unicode 3.9, D92). */
export const isTorn = (value: unknown): value is string => typeof value === 'string' && value.search(TORN) >= 0

/** The text with U+FFFD for each such half: `'a\ud800b'` is `'a\ufffdb'`. */
export const wellFormed = (text: string): string => (isTorn(text) ? text.replace(TORN, '\ufffd') : text)

/** Its first characters, so many UTF-16 units at most, no pair cut apart. */
export const firstOf = (text: string, most: number): string => {
  if (text.length <= most) return text
  const last = text.charCodeAt(most - 1)
  return text.slice(0, last >= 0xd800 && last <= 0xdbff ? most - 1 : most)
}
