const TIME = /^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d{1,9})?(Z|[+-]\d\d:\d\d)$/
/** 1970 and the end of 9999, epoch ms. */
const [FIRST, LAST] = [0, 253_402_300_799_000]

/** A moment with its zone (RFC 3339 5.6) as epoch ms; null: it is none. */
export function isoMs(text: string): number | null {
  const ms = TIME.test(text) ? Date.parse(text) : Number.NaN
  return Number.isFinite(ms) ? ms : null
}

/** Epoch ms as a moment in UTC: `'2026-11-29T03:32:26.000Z'`. */
export const isoOf = (ms: number): string => new Date(ms).toISOString()

/** The same to the second, as ISO 8601 writes it in names: `'20261129T033226Z'`. Beyond what four digits of a year hold it is the end of them. */
export const basicIso = (ms: number): string =>
  `${isoOf(Math.min(Math.max(ms, FIRST), LAST))
    .slice(0, 19)
    .replace(/[-:]/g, '')}Z`

/** Reads `basicIso`, epoch ms; null: it is none. */
export function basicIsoMs(text: string): number | null {
  const m = /^(\d{4})(\d\d)(\d\d)T(\d\d)(\d\d)(\d\d)Z$/.exec(text)
  return m && isoMs(`${m[1]}-${m[2]}-${m[3]}T${m[4]}:${m[5]}:${m[6]}Z`)
}
