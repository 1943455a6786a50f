import { CHAMBERS, chamberAt, gasMeterAt, powerMeterAt } from './model'

export type Area = 'coil' | 'discrete' | 'input' | 'holding'

/** One unit id: what its places hold now, and what happens when one is written. Undefined: there is no such place. */
export interface Unit {
  read(area: Area, offset: number): number | undefined
  write(area: Area, offset: number, value: number): boolean
  /** How long it takes to answer, ms; null: it is silent. */
  delay(): number | null
}

export const GAS_METER = 11
export const POWER_METERS = [12, 13, 14] as const

const uint16 = (n: number) => Math.round(n) & 0xffff
const view = new DataView(new ArrayBuffer(8))

/** High word first. */
function float32(n: number): [number, number] {
  view.setFloat32(0, n)
  return [view.getUint16(0), view.getUint16(2)]
}
const uint32 = (n: number): [number, number] => [Math.floor(n / 65_536) & 0xffff, n & 0xffff]
const swapped = ([high, low]: [number, number]): [number, number] => [low, high]

function text(s: string, words: number): number[] {
  return Array.from({ length: words }, (_, i) => ((s.charCodeAt(i * 2) || 0) << 8) | (s.charCodeAt(i * 2 + 1) || 0))
}

function places(...parts: [number, readonly number[]][]): Map<number, number> {
  const out = new Map<number, number>()
  for (const [at, words] of parts)
    words.forEach((w, i) => {
      out.set(at + i, w)
    })
  return out
}

/**
 * The dryer controller's chambers are unit ids 1 to 6, the gas meter 11, the power meters 12 to 14. Chamber 5 answers slowly, and
 * falls silent for six seconds of every forty. Power meters send the low word first, the gas meter the high one.
 */
export function worksUnits(clock: () => number): Map<number, Unit> {
  const units = new Map<number, Unit>()
  for (let n = 0; n < CHAMBERS; n++) {
    let setpoint = 920
    let door = false
    units.set(n + 1, {
      read(area, offset) {
        const c = chamberAt(n, clock(), setpoint / 10)
        if (area === 'coil') return offset === 0 ? Number(door) : undefined
        if (area === 'discrete') return [c.fan, c.heater, c.door || door, c.alarm].map(Number)[offset]
        if (area === 'holding')
          return places([0, [setpoint]], [10, [uint16(c.fanSpeed * 10)]], [11, [uint16(c.damper * 10)]], [40, text(`VC-DRY-${n + 1}`, 8)]).get(offset)
        const status = Number(c.fan) | (Number(c.heater) << 1) | (Number(c.door || door) << 2) | (Number(c.alarm) << 7)
        return [uint16(c.dryBulb * 10), uint16(c.wetBulb * 10), uint16(c.cycleHour * 100), c.state, status][offset]
      },
      write(area, offset, value) {
        if (area === 'holding' && offset === 0 && value >= 200 && value <= 1200) setpoint = value
        else if (area === 'coil' && offset === 0) door = value === 1
        else return false
        return true
      },
      delay: () => (n !== 4 ? 0 : clock() % 40 >= 34 ? null : 450),
    })
  }
  units.set(GAS_METER, {
    read(area, offset) {
      const g = gasMeterAt(clock())
      return area === 'input'
        ? places([0, uint32(g.total)], [2, float32(g.flow)], [4, float32(g.pressure)], [20, text('GM-4471-VC', 6)]).get(offset)
        : undefined
    },
    write: () => false,
    delay: () => 0,
  })
  for (const [i, unit] of POWER_METERS.entries())
    units.set(unit, {
      read(area, offset) {
        const p = powerMeterAt(i, clock())
        return area === 'holding'
          ? places(
              [100, swapped(float32(p.power))],
              [102, swapped(uint32(p.energy))],
              [104, [uint16(p.powerFactor * 1000)]],
              [106, swapped(float32(p.voltage))],
              [108, swapped(float32(p.current))],
            ).get(offset)
          : undefined
      },
      write: () => false,
      delay: () => 0,
    })
  return units
}
