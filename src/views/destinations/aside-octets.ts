const bytesOf = (base64: string): Uint8Array => Uint8Array.from(atob(base64), (c) => c.charCodeAt(0))

function base64Of(bytes: Uint8Array): string {
  let text = ''
  for (const b of bytes) text += String.fromCharCode(b)
  return btoa(text)
}

/** Octets as the text that they are in UTF-8; null: they are none. */
export function textOf(base64: string): string | null {
  try {
    return new TextDecoder('utf-8', { fatal: true, ignoreBOM: true }).decode(bytesOf(base64))
  } catch {
    return null
  }
}

/** Octets as hexadecimal digits, the first `most` of them. */
export const hexOf = (base64: string, most = Number.POSITIVE_INFINITY): string =>
  Array.from(bytesOf(base64).subarray(0, most), (b) => b.toString(16).padStart(2, '0')).join(' ')

export const fromText = (text: string): string => base64Of(new TextEncoder().encode(text))

/** Hexadecimal digits, with or without spaces, as octets; null: there is something else in it, or half an octet. */
export function fromHex(text: string): string | null {
  const digits = text.replace(/\s+/g, '')
  if (digits.length % 2 !== 0 || /[^0-9a-f]/i.test(digits)) return null
  return base64Of(Uint8Array.from(digits.match(/../g) ?? [], (pair) => Number.parseInt(pair, 16)))
}
