/** A number in -1..1 that depends on its arguments alone. */
export function noise(seed: number, a: number, b: number): number {
  let h = Math.imul(seed ^ Math.imul(a, 0x9e3779b1), 0x85ebca6b) ^ Math.imul(b + 1, 0xc2b2ae35)
  h = Math.imul(h ^ (h >>> 15), 0x2c1b3c6d)
  h = Math.imul(h ^ (h >>> 12), 0x297a2d39)
  return ((h ^ (h >>> 15)) >>> 0) / 0x7fffffff - 1
}
