/**
 * A 53-bit digest of octets, for telling apart payloads that passed through the same hands: two lanes of the 32-bit
 * MurmurHash3 finaliser over four octets at a time. It finds what was damaged or mixed up; it is no seal against forgery.
 */
export function digest(bytes: Uint8Array): number {
  let a = 0x9747b28c ^ bytes.length
  let b = 0x1b873593 + bytes.length
  const whole = bytes.length & ~3
  for (let i = 0; i < whole; i += 4) {
    const k = bytes[i]! | (bytes[i + 1]! << 8) | (bytes[i + 2]! << 16) | (bytes[i + 3]! << 24)
    a = Math.imul(a ^ Math.imul(k, 0xcc9e2d51), 0x85ebca6b)
    a ^= a >>> 13
    b = Math.imul(b ^ Math.imul(k, 0x27d4eb2f), 0xc2b2ae35)
    b ^= b >>> 15
  }
  for (let i = whole; i < bytes.length; i++) {
    a = Math.imul(a ^ bytes[i]!, 0x85ebca6b)
    a ^= a >>> 13
    b = Math.imul(b ^ bytes[i]!, 0xc2b2ae35)
    b ^= b >>> 15
  }
  a ^= b >>> 16
  a = Math.imul(a ^ (a >>> 16), 0x85ebca6b)
  a ^= a >>> 13
  b ^= a >>> 16
  b = Math.imul(b ^ (b >>> 15), 0xc2b2ae35)
  b ^= b >>> 16
  return (a >>> 11) * 0x1_0000_0000 + (b >>> 0)
}
