/** Reads a date of HTTP (RFC 9110 5.6.7), epoch ms; NaN: it is none. */
export const httpDate = (text: string): number => Date.parse(text)
