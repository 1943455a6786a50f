import { chance } from '../value/chance'
import type { Scalar } from '../value/deadband'

/** A computed signal, as its text says: `sine low=20 high=80 period=60`. */
export interface Signal {
  kind: 'sine' | 'ramp' | 'steps' | 'walk' | 'noise' | 'counter' | 'cycle' | 'fixed' | 'replay'
  low: number
  high: number
  /** s for one round; for `walk` and `cycle` between two values. */
  period: number
  /** Steps a round, or how far a walk goes at once. */
  step: number
  /** Counts a second. */
  rate: number
  /** Values of a cycle. */
  values: string[]
  /** Column of a replay. */
  column: string
}

const kinds = {
  sine: 'swings between low and high',
  ramp: 'rises from low to high and begins again',
  steps: 'goes up from low to high in equal steps',
  walk: 'wanders between low and high, a random step at a time',
  noise: 'jumps at random between low and high',
  counter: 'counts up at a rate and rolls over after high',
  cycle: 'goes round a list of texts',
  fixed: 'one value',
  replay: 'a column of the recording, again and again',
} as const
export const signalKinds: Readonly<Record<Signal['kind'], string>> = kinds

export const signalExamples: readonly string[] = [
  'sine low=0 high=100 period=60',
  'ramp low=0 high=100 period=120',
  'steps low=0 high=100 step=5 period=50',
  'walk low=20 high=80 step=1 period=1',
  'noise low=-1 high=1',
  'counter rate=2 high=65535',
  'cycle values=idle|heating|holding period=10',
  'fixed values=42',
  'replay column=temperature',
]

/** Reads a signal's text; gives what is wrong as a sentence. A column or list with spaces stands in double quotes. */
export function parseSignal(text: string): Signal | { problem: string } {
  const parts = text.trim().match(/[^\s"=]+="[^"]*"|\S+/g) ?? []
  const kind = parts[0]?.toLowerCase() as Signal['kind']
  if (!Object.hasOwn(kinds, kind ?? '')) return { problem: `A signal is one of ${Object.keys(kinds).join(', ')}` }
  const s: Signal = {
    kind,
    low: 0,
    high: kind === 'counter' ? 4_294_967_295 : 100,
    period: kind === 'walk' || kind === 'cycle' ? 1 : 60,
    step: kind === 'steps' ? 5 : 1,
    rate: 1,
    values: [],
    column: '',
  }
  for (const part of parts.slice(1)) {
    const at = part.indexOf('=')
    const key = part.slice(0, at).toLowerCase()
    const value = part.slice(at + 1).replace(/^"(.*)"$/, '$1')
    if (at < 1) return { problem: `${part} is not name=value` }
    if (key === 'values') s.values = value.split('|')
    else if (key === 'column') s.column = value
    else if (key === 'low' || key === 'high' || key === 'period' || key === 'step' || key === 'rate') {
      const n = Number(value)
      if (value === '' || !Number.isFinite(n)) return { problem: `${key}=${value}: that is no number` }
      s[key] = n
    } else return { problem: `${key} means nothing here: low, high, period, step, rate, values, column` }
  }
  if (s.low >= s.high && kind !== 'cycle' && kind !== 'fixed' && kind !== 'replay') return { problem: 'low must be below high' }
  if (s.period <= 0) return { problem: 'The period must be above 0' }
  if (s.step <= 0) return { problem: 'The step must be above 0' }
  if (kind === 'steps' && (!Number.isInteger(s.step) || s.step < 2)) return { problem: 'steps needs step=2 or more' }
  if (kind === 'counter' && s.rate <= 0) return { problem: 'The rate must be above 0' }
  if ((kind === 'cycle' || kind === 'fixed') && s.values.length === 0) return { problem: `${kind} needs values=one|two|three` }
  if (kind === 'replay' && s.column === '') return { problem: 'replay needs column=name' }
  return s
}

/** A number from a text, so that tags of one source with one seed still differ. */
function hash(text: string): number {
  let h = 0x811c9dc5
  for (let i = 0; i < text.length; i++) h = Math.imul(h ^ text.charCodeAt(i), 0x01000193)
  return h >>> 0
}

const round = (n: number) => Number(n.toPrecision(7))

/** A recording for replay: times in s from its start, and columns of values. */
export interface Recording {
  times: number[]
  columns: ReadonlyMap<string, readonly Scalar[]>
}

/**
 * Makes the signal ready to run: a function from seconds since its start to the value. It must be called with times that do not
 * go back. The same seed and name give the same values; without a name's sake two sines would swing together.
 */
export function runSignal(s: Signal, seed: number, name: string, recording: Recording | null = null): (seconds: number) => Scalar {
  const next = chance((seed ^ hash(name)) >>> 0)
  const shift = hash(name) / 0x1_0000_0000
  const span = s.high - s.low
  const part = (t: number) => {
    const p = t / s.period + shift
    return p - Math.floor(p)
  }
  switch (s.kind) {
    case 'sine':
      return (t) => round(s.low + (span * (1 + Math.sin(2 * Math.PI * part(t)))) / 2)
    case 'ramp':
      return (t) => round(s.low + span * part(t))
    case 'steps':
      return (t) => round(s.low + (span * Math.floor(part(t) * s.step)) / (s.step - 1))
    case 'noise':
      return () => round(s.low + span * next())
    case 'walk': {
      let at = s.low + span * next()
      let made = 0
      return (t) => {
        // After a long pause a walk is anywhere: some steps are enough.
        const due = Math.floor(t / s.period)
        if (due - made > 1000) made = due - 1000
        for (; made < due; made++) {
          at += (next() * 2 - 1) * s.step
          // Reflected at the ends.
          if (at > s.high) at = Math.max(s.low, 2 * s.high - at)
          if (at < s.low) at = Math.min(s.high, 2 * s.low - at)
        }
        return round(at)
      }
    }
    case 'counter':
      return (t) => s.low + (Math.floor(t * s.rate) % (span + 1))
    case 'cycle':
      return (t) => s.values[Math.floor(t / s.period) % s.values.length]!
    case 'fixed': {
      const text = s.values.join('|')
      const n = Number(text)
      const value = text === 'true' ? true : text === 'false' ? false : text.trim() !== '' && Number.isFinite(n) ? n : text
      return () => value
    }
    case 'replay': {
      const column = recording?.columns.get(s.column)
      if (!recording || !column || column.length === 0) return () => null
      const { times } = recording
      const whole = times.at(-1)! + (times.length > 1 ? (times.at(-1)! - times[0]!) / (times.length - 1) : 1)
      return (t) => {
        const wanted = t % whole
        let low = 0
        let high = times.length - 1
        while (low < high) {
          const middle = (low + high + 1) >> 1
          if (times[middle]! <= wanted) low = middle
          else high = middle - 1
        }
        return column[low] ?? null
      }
    }
  }
}

/** Reads a recording from CSV: heading row, first column times (ISO 8601, or seconds), no quotes needed. Throws a sentence that names the row. */
export function parseRecording(csv: string): Recording {
  const lines = csv.split(/\r?\n/).filter((l) => l.trim() !== '')
  if (lines.length < 2) throw new Error('The recording needs a heading and at least one row')
  const separator = [';', '\t', ','].find((c) => lines[0]!.includes(c)) ?? ','
  const cells = (l: string) => l.split(separator).map((c) => c.trim().replace(/^"(.*)"$/, '$1'))
  const names = cells(lines[0]!)
  const columns = new Map(names.slice(1).map((n) => [n, [] as Scalar[]]))
  const times: number[] = []
  let first = 0
  for (const [i, line] of lines.slice(1).entries()) {
    const row = cells(line)
    const text = row[0] ?? ''
    const at = /^-?[\d.]+$/.test(text) ? Number(text) : Date.parse(text) / 1000
    if (!Number.isFinite(at)) throw new Error(`Row ${i + 2} of the recording: ${text || 'nothing'} is no time`)
    if (i === 0) first = at
    if (times.length > 0 && at - first < times.at(-1)!) throw new Error(`Row ${i + 2} of the recording goes back in time`)
    times.push(at - first)
    names.slice(1).forEach((n, c) => {
      const cell = row[c + 1] ?? ''
      const number = Number(separator === ';' ? cell.replace(',', '.') : cell)
      columns.get(n)!.push(cell === '' ? null : Number.isFinite(number) ? number : cell === 'true' ? true : cell === 'false' ? false : cell)
    })
  }
  return { times, columns }
}
