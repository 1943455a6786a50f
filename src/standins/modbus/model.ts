import { noise } from '../noise'

/** The dryers and meters as functions of simulated seconds: the same second always gives the same values. */

export const CHAMBERS = 6
export const cycleStates = ['loading', 'heating', 'drying', 'cooling', 'unloading'] as const

export interface Chamber {
  /** degC */
  dryBulb: number
  wetBulb: number
  /** Per cent. */
  fanSpeed: number
  damper: number
  /** Hours since the cycle began, of 24; a simulated minute is an hour. */
  cycleHour: number
  /** Index into `cycleStates`. */
  state: number
  fan: boolean
  heater: boolean
  door: boolean
  alarm: boolean
}

/** Chamber 0 to 5 at a second; each is four hours of its cycle behind the one before. `setpoint` in degC steers the heat of drying. */
export function chamberAt(n: number, t: number, setpoint = 92): Chamber {
  const hour = (t / 60 + n * 4) % 24
  const s = Math.floor(t * 2)
  const wobble = noise(11 + n, 1, s)
  const state = hour < 1 ? 0 : hour < 5 ? 1 : hour < 19 ? 2 : hour < 23 ? 3 : 4
  const warm = state === 0 || state === 4 ? 0 : state === 1 ? (hour - 1) / 4 : state === 2 ? 1 : (23 - hour) / 4
  const dry = 24 + (setpoint - 24) * warm + wobble * 0.3
  // Clay gives its water off first fast, then slowly: the wet bulb comes near the dry one in the middle of heating.
  const damp = state === 1 ? 0.88 - 0.2 * warm : state === 2 ? 0.68 - (0.38 * (hour - 5)) / 14 : 0.5
  return {
    dryBulb: dry,
    wetBulb: 14 + (dry - 14) * damp + noise(31 + n, 2, s) * 0.2,
    fanSpeed: state === 0 || state === 4 ? 0 : 40 + 45 * warm + noise(51 + n, 3, s) * 0.5,
    damper: state === 2 ? 20 + (60 * (hour - 5)) / 14 : state === 3 ? 100 : 5,
    cycleHour: hour,
    state,
    fan: state !== 0 && state !== 4,
    heater: state === 1 || state === 2,
    door: state === 0 || state === 4,
    alarm: n === 3 && Math.floor(t / 90) % 4 === 3,
  }
}

export interface GasMeter {
  /** m3, counted. */
  total: number
  /** m3/h */
  flow: number
  /** mbar */
  pressure: number
}

export function gasMeterAt(t: number): GasMeter {
  return {
    total: Math.floor(1_284_300 + (t * 412) / 3600),
    flow: 412 + 18 * Math.sin(t / 47) + noise(71, 1, Math.floor(t * 2)) * 2,
    pressure: 86 + noise(72, 1, Math.floor(t * 2)) * 0.4,
  }
}

export interface PowerMeter {
  /** kW */
  power: number
  /** kWh, counted. */
  energy: number
  powerFactor: number
  /** V, A */
  voltage: number
  current: number
}

/** Power meter 0 to 2. */
export function powerMeterAt(n: number, t: number): PowerMeter {
  const s = Math.floor(t * 2)
  const power = [184, 96.5, 41.2][n]! * (1 + 0.08 * Math.sin(t / (31 + n * 7))) + noise(81 + n, 1, s)
  const voltage = 401 + noise(84 + n, 1, s) * 1.5
  const powerFactor = 0.91 + 0.03 * Math.sin(t / 53 + n)
  return {
    power,
    energy: Math.floor([2_483_100, 911_450, 402_880][n]! + (t * [184, 96.5, 41.2][n]!) / 3600),
    powerFactor,
    voltage,
    current: (power * 1000) / (Math.sqrt(3) * voltage * powerFactor),
  }
}
