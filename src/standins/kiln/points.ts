import { noise } from '../noise'
import type { KilnState } from './model'

/** A variable of the controller: what it is called, and its value at a moment. */
export interface Point {
  name: string
  id: string
  unit?: 'degree_celsius' | 'cubic_metre_per_hour' | 'percent' | 'pascal' | 'second' | 'bar'
  low?: number
  high?: number
  value(s: KilnState): number | boolean | string
  /** Whole numbers. */
  integer?: boolean
}

const round = (n: number, digits: number) => Math.round(n * 10 ** digits) / 10 ** digits
const steps = (s: KilnState) => Math.floor(s.at * 2)

/** What a zone has beside temperature, setpoint, gas flow, burner and high limit. */
export function zonePoints(z: number): Point[] {
  const zone = (s: KilnState) => s.zones[z]!
  const wobble = (s: KilnState, seed: number) => noise(seed, z, steps(s))
  const part = (s: KilnState) => zone(s).gasFlow / 60
  return [
    { name: 'low limit', id: 'lowLimit', value: (s) => zone(s).setpoint - 80 },
    { name: 'deviation', id: 'deviation', value: (s) => round(zone(s).temperature - zone(s).setpoint, 1) },
    {
      name: 'roof temperature',
      id: 'roofTemperature',
      unit: 'degree_celsius',
      low: 0,
      high: 1300,
      value: (s) => round(zone(s).temperature * 0.97 + wobble(s, 101), 1),
    },
    {
      name: 'floor temperature',
      id: 'floorTemperature',
      unit: 'degree_celsius',
      low: 0,
      high: 1300,
      value: (s) => round(zone(s).temperature * 0.9 + wobble(s, 102), 1),
    },
    {
      name: 'wall temperature',
      id: 'wallTemperature',
      unit: 'degree_celsius',
      low: 0,
      high: 200,
      value: (s) => round(30 + zone(s).temperature * 0.04 + wobble(s, 103) * 0.2, 1),
    },
    { name: 'thermocouple voltage', id: 'thermocouple', value: (s) => round(zone(s).temperature * 0.0104, 3) },
    {
      name: 'combustion air flow',
      id: 'airFlow',
      unit: 'cubic_metre_per_hour',
      low: 0,
      high: 700,
      value: (s) => round(zone(s).gasFlow * 10.4 + wobble(s, 104) * 2, 1),
    },
    { name: 'air ratio', id: 'airRatio', value: (s) => round(1.08 + wobble(s, 105) * 0.02, 3) },
    { name: 'gas pressure', id: 'gasPressure', unit: 'bar', low: 0, high: 1, value: (s) => round(0.086 + wobble(s, 106) * 0.002, 4) },
    { name: 'gas valve', id: 'gasValve', unit: 'percent', low: 0, high: 100, value: (s) => round(part(s) * 100, 1) },
    { name: 'air damper', id: 'airDamper', unit: 'percent', low: 0, high: 100, value: (s) => round(15 + part(s) * 80, 1) },
    {
      name: 'flame signal',
      id: 'flameSignal',
      unit: 'percent',
      low: 0,
      high: 100,
      value: (s) => (zone(s).burner ? round(86 + wobble(s, 107) * 3, 1) : 0),
    },
    { name: 'burner starts', id: 'burnerStarts', integer: true, value: (s) => 1200 + z * 31 + Math.floor(s.at / 900) },
    { name: 'burner hours', id: 'burnerHours', value: (s) => round(30_100 + z * 410 + s.at / 3600, 2) },
    { name: 'heat output', id: 'heatOutput', unit: 'percent', low: 0, high: 100, value: (s) => round(part(s) * 100, 1) },
    { name: 'gas total', id: 'gasTotal', value: (s) => round(88_000 + z * 1200 + (s.at * zone(s).gasFlow) / 3600, 1) },
    { name: 'proportional gain', id: 'gain', value: () => round(0.9 + z * 0.02, 2) },
    { name: 'integral time', id: 'integralTime', unit: 'second', low: 0, high: 3600, value: () => 240 + z * 5 },
    { name: 'control mode', id: 'controlMode', value: () => 'automatic' },
    { name: 'flame on', id: 'flameOn', value: (s) => zone(s).burner },
    { name: 'purge done', id: 'purgeDone', value: () => true },
    { name: 'alarm high', id: 'alarmHigh', value: (s) => zone(s).temperature > zone(s).setpoint + 80 },
    { name: 'alarm low', id: 'alarmLow', value: (s) => zone(s).temperature < zone(s).setpoint - 80 },
    { name: 'sensor fault', id: 'sensorFault', value: (s) => !zone(s).sensorGood },
    { name: 'maintenance due', id: 'maintenanceDue', value: () => z === 6 },
  ]
}

const fans = ['Exhaust Fan', 'Recirculation Fan', 'Cooling Fan', 'Combustion Air Fan'] as const

/** Folders beside the zones, with what is in them. */
export const units: readonly { name: string; id: string; points: Point[] }[] = [
  ...fans.map((name, f) => ({
    name,
    id: `fan${f + 1}`,
    points: [
      {
        name: 'speed',
        id: 'speed',
        unit: 'percent' as const,
        low: 0,
        high: 100,
        value: (s: KilnState) => round(62 + f * 7 + noise(111, f, steps(s)), 1),
      },
      { name: 'motor current', id: 'current', value: (s: KilnState) => round(14 + f * 3 + noise(112, f, steps(s)) * 0.3, 2) },
      {
        name: 'bearing temperature',
        id: 'bearing',
        unit: 'degree_celsius' as const,
        low: 0,
        high: 120,
        value: (s: KilnState) => round(46 + f + noise(113, f, steps(s)) * 0.2, 1),
      },
      { name: 'vibration', id: 'vibration', value: (s: KilnState) => round(1.9 + f * 0.2 + noise(114, f, steps(s)) * 0.1, 2) },
      { name: 'running', id: 'running', value: () => true },
      { name: 'hours', id: 'hours', value: (s: KilnState) => round(51_000 + s.at / 3600, 2) },
      { name: 'fault', id: 'fault', value: () => false },
    ],
  })),
  {
    name: 'Car Pusher 1',
    id: 'pusher',
    points: [
      {
        name: 'position',
        id: 'position',
        unit: 'percent',
        low: 0,
        high: 100,
        value: (s) => round(((s.at % s.pushInterval) / s.pushInterval) * 100, 1),
      },
      { name: 'hydraulic pressure', id: 'pressure', unit: 'bar', low: 0, high: 250, value: (s) => round(142 + noise(121, 0, steps(s)) * 4, 1) },
      {
        name: 'oil temperature',
        id: 'oilTemperature',
        unit: 'degree_celsius',
        low: 0,
        high: 100,
        value: (s) => round(44 + noise(122, 0, steps(s)) * 0.3, 1),
      },
      { name: 'pushes', id: 'pushes', integer: true, value: (s) => s.carNumber - 412 },
      { name: 'ready', id: 'ready', value: () => true },
      { name: 'door entry open', id: 'doorEntry', value: (s) => s.at % s.pushInterval < 3 },
      { name: 'door exit open', id: 'doorExit', value: (s) => s.at % s.pushInterval < 3 },
    ],
  },
]
