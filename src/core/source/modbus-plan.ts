import type { Area, ModbusAddress } from './modbus-address'

/** Bits that fit one answer (MODBUS Application Protocol V1.1b3 6.1). */
const BITS_MAX = 2000

export interface Point<T> {
  address: ModbusAddress
  rateMs: number
  item: T
}

/** One request: so many registers or bits of one unit, and what is to be taken out of the answer. */
export interface Block<T> {
  unit: number
  area: Area
  offset: number
  count: number
  rateMs: number
  points: Point<T>[]
}

/**
 * Gathers what is wanted into the fewest requests: values of one unit, area and rate that lie within `gap` of each other go
 * together, up to `maxRegisters`. No value is cut in two. Longest-first from the left is least, as with any cover of points by stretches.
 */
export function planReads<T>(points: readonly Point<T>[], limits: { gap: number; maxRegisters: number }): Block<T>[] {
  const groups = new Map<string, Point<T>[]>()
  for (const p of points) {
    const key = `${p.address.unit} ${p.address.area} ${p.rateMs}`
    const group = groups.get(key)
    if (group) group.push(p)
    else groups.set(key, [p])
  }
  const blocks: Block<T>[] = []
  for (const group of groups.values()) {
    group.sort((a, b) => a.address.offset - b.address.offset || b.address.words - a.address.words)
    let block: Block<T> | null = null
    for (const p of group) {
      const { unit, area, offset, words } = p.address
      const bits = area === 'coil' || area === 'discrete'
      // A gap of bits costs a sixteenth of one of registers.
      const gap = bits ? limits.gap * 16 : limits.gap
      const max = bits ? BITS_MAX : limits.maxRegisters
      const end = offset + words
      if (block && offset - (block.offset + block.count) <= gap && Math.max(end, block.offset + block.count) - block.offset <= max) {
        block.count = Math.max(block.count, end - block.offset)
        block.points.push(p)
      } else {
        block = { unit, area, offset, count: words, rateMs: p.rateMs, points: [p] }
        blocks.push(block)
      }
    }
  }
  return blocks
}

/** Cuts a block that a device refuses into two, each with the span of its own points; a single point stays. */
export function splitBlock<T>(block: Block<T>): Block<T>[] {
  if (block.points.length < 2) return [block]
  const middle = block.points.length >> 1
  return [block.points.slice(0, middle), block.points.slice(middle)].map((points) => {
    const offset = Math.min(...points.map((p) => p.address.offset))
    const end = Math.max(...points.map((p) => p.address.offset + p.address.words))
    return { ...block, offset, count: end - offset, points }
  })
}
