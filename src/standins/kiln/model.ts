import { noise } from '../noise'

/** The tunnel kiln as a small physical model: fixed seed, simulated seconds from 0, so the same second always gives the same values. */

export const ZONES = 12
/** Wanted temperature of each zone, degC: preheating, firing, cooling. */
export const setpoints = [182, 348, 512, 688, 861, 1012, 1048, 1042, 905, 640, 372, 160] as const

/** Time constant of a zone, s. */
const TAU = 90
/** A car of wet ware enters and chills each zone a little, degC at the first zone. */
const CHILL = 14
/** Full gas flow of a zone, m3/h. */
const GAS_FULL = 60

export interface ZoneState {
  temperature: number
  setpoint: number
  gasFlow: number
  burner: boolean
  /** False while the thermocouple reads nonsense. */
  sensorGood: boolean
}

export interface KilnState {
  /** Simulated seconds. */
  at: number
  zones: ZoneState[]
  /** Pa, below the atmosphere. */
  draught: number
  /** Per cent. */
  oxygen: number
  carNumber: number
  /** s between two pushes. */
  pushInterval: number
}

const round = (n: number, digits: number) => Math.round(n * 10 ** digits) / 10 ** digits

/**
 * Steps forward half a second at a time. Each zone is a first-order body heated by its burner, whose gas flow a
 * proportional-integral controller sets, cooled towards its neighbours and by each car that is pushed in.
 */
export class KilnModel {
  private temperature = setpoints.map((s) => s - 6)
  private integral = setpoints.map((s) => (s / 1100) * 0.7)
  private steps = 0
  private pushes = 0
  readonly pushInterval = 48
  readonly setpoint: number[] = [...setpoints]

  constructor(private readonly seed = 1) {}

  get at(): number {
    return this.steps / 2
  }

  step(): void {
    this.steps++
    const t = this.at
    const pushed = this.steps % (this.pushInterval * 2) === 0
    if (pushed) this.pushes++
    const before = [...this.temperature]
    for (let z = 0; z < ZONES; z++) {
      const gas = this.gas(z)
      const hold = (setpoints[z]! / 1100) * 0.7
      const drift = z === 6 ? 3 * Math.sin(t / 160) : 0
      const neighbours = ((before[z - 1] ?? before[z]!) + (before[z + 1] ?? before[z]!)) / 2 - before[z]!
      this.temperature[z]! +=
        0.5 * (((gas - hold) * 420) / TAU + (neighbours * 0.02) / TAU + drift / TAU) +
        noise(this.seed, z, this.steps) * 0.22 -
        (pushed ? CHILL * Math.exp(-z / 5) : 0)
      const error = this.setpoint[z]! - this.temperature[z]!
      this.integral[z] = Math.min(1, Math.max(0, this.integral[z]! + error * 0.00012))
    }
  }

  private gas(z: number): number {
    const error = this.setpoint[z]! - this.temperature[z]!
    return Math.min(1, Math.max(0, this.integral[z]! + error * 0.012))
  }

  state(): KilnState {
    const t = this.at
    return {
      at: t,
      zones: this.temperature.map((temperature, z) => {
        const gas = this.gas(z)
        // Zone 7's thermocouple is worn: it reads high, more and more, and fails for twenty seconds every four minutes.
        const worn = z === 6
        return {
          temperature: round(temperature + (worn ? Math.min(12, t / 900) : 0), 1),
          setpoint: this.setpoint[z]!,
          gasFlow: round(gas * GAS_FULL + noise(this.seed + 1, z, this.steps) * 0.15, 2),
          burner: gas > 0.02,
          sensorGood: !(worn && t % 240 >= 200 && t % 240 < 220),
        }
      }),
      draught: round(-38 + 4 * Math.sin(t / 37) + noise(this.seed + 2, 0, this.steps), 1),
      oxygen: round(6.2 + 0.8 * Math.sin(t / 71) + noise(this.seed + 3, 0, this.steps) * 0.1, 2),
      carNumber: 412 + this.pushes,
      pushInterval: this.pushInterval,
    }
  }
}

/** The state at a simulated second. */
export function kilnAt(seconds: number, seed = 1): KilnState {
  const model = new KilnModel(seed)
  while (model.at < seconds) model.step()
  return model.state()
}
