const number = /^[-+]?(\d+([.,]\d*)?|[.,]\d+)(e[-+]?\d+)?$/i

/**
 * A number as people type it, with a decimal point or a decimal comma; null: none. Digits are not grouped: `1.234,5` is no number,
 * `1,234` is 1.234. Nor are `0x10` and `Infinity` numbers.
 */
export function typedNumber(text: string): number | null {
  const trimmed = text.trim().replace('\u2212', '-')
  if (!number.test(trimmed)) return null
  const value = Number(trimmed.replace(',', '.'))
  return Number.isFinite(value) ? value : null
}
