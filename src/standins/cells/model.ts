import { noise } from '../noise'

/** Clay moisture probes and packing cells, which speak on the site broker by themselves, at a simulated second. */

export interface Speech {
  topic: string
  payload: string | Uint8Array
  retain: boolean
  /** s between two messages. */
  every: number
}

const round = (n: number, digits: number) => Math.round(n * 10 ** digits) / 10 ** digits

/** Probes speak JSON with time and quality. Probe 3 fell silent after its first message; probe 2 is fouled at times and says so. */
export function probesAt(t: number, now: number): Speech[] {
  const at = new Date(now).toISOString()
  return [1, 2, 3].map((n) => {
    const s = Math.floor(t)
    const moisture = round(17.5 + n * 0.6 + Math.sin(t / (50 + n * 9)) + noise(91 + n, 1, s) * 0.08, 2)
    const fouled = n === 2 && t % 120 >= 100
    return {
      topic: `probes/clay-prep/${n}`,
      payload: JSON.stringify({
        at,
        quality: fouled ? 'bad: fouled' : 'good',
        moisture,
        clay: { temperature: round(13 + n + noise(94, n, s) * 0.2, 1) },
        battery: 3.6 - n / 10,
      }),
      retain: n === 3,
      every: n === 3 ? Number.POSITIVE_INFINITY : 2,
    }
  })
}

/** Packing cells speak bare values. The strapper publishes a word where a number is expected for ten seconds of every minute. */
export function packingAt(t: number): Speech[] {
  const jammed = t % 60 >= 50
  const packs = (rate: number, start: number) => Math.floor(start + (t * rate) / 60)
  const cell = (name: string, member: string, payload: string | number, every = 1): Speech => ({
    topic: `cells/packing/${name}/${member}`,
    payload: String(payload),
    retain: false,
    every,
  })
  return [
    cell('stacker 1', 'packs', packs(22, 18_400)),
    cell('stacker 1', 'rejects', packs(0.4, 212), 5),
    cell('stacker 1', 'state', t % 300 < 20 ? 'changeover' : 'running', 5),
    cell('stacker 1', 'rate', round(22 + noise(97, 1, Math.floor(t)) * 0.6, 1)),
    cell('strapper 1', 'packs', packs(22, 18_390)),
    cell('strapper 1', 'rate', jammed ? 'JAM' : round(21.8 + noise(98, 1, Math.floor(t)) * 0.5, 1)),
    cell('strapper 1', 'state', jammed ? 'jammed' : 'running'),
  ]
}

/** The palletiser's metrics; a Sparkplug node and device. */
export function palletiserAt(t: number): { name: string; alias: number; datatype: number; value: number | boolean | string; unit?: string }[] {
  return [
    { name: 'pallets', alias: 1, datatype: 7, value: Math.floor(902 + t / 75) },
    { name: 'layer', alias: 2, datatype: 3, value: Math.floor(t / 15) % 5 },
    { name: 'head/height', alias: 3, datatype: 9, value: round(1.1 + 0.7 * Math.sin(t / 7), 3), unit: 'm' },
    { name: 'gripper closed', alias: 4, datatype: 11, value: Math.floor(t / 7) % 2 === 0 },
    { name: 'pattern', alias: 5, datatype: 12, value: 'VC-5x8' },
    { name: 'offset', alias: 6, datatype: 3, value: -Math.floor(t) % 12 },
  ]
}
