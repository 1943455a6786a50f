import { describe, expect, it } from 'vitest'
import { fromHex, fromText, hexOf, textOf } from './aside-octets'

describe('octets of a message that went aside', () => {
  it.each(['', '{"n":1}', 'Zündung, 688.9 °C', '\u{1f525}\u2028\0', '\ufeffx'])('are the text that they were: %j', (text) => {
    expect(textOf(fromText(text))).toBe(text)
  })
  it('are hexadecimal digits where they are no text', () => {
    const octets = fromHex('ff 00 7f\n80')!
    expect(textOf(octets)).toBeNull()
    expect(hexOf(octets)).toBe('ff 00 7f 80')
    expect(hexOf(octets, 2)).toBe('ff 00')
    expect(fromHex(hexOf(octets))).toBe(octets)
  })
  it.each(['f', 'fg', '0x00', 'ff,00'])('are none as %j', (text) => {
    expect(fromHex(text)).toBeNull()
  })
})
