import { OctetError, Reader, Writer } from '../shape/octets'
import type { Scalar } from '../value/deadband'
import { isTorn } from '../value/well-formed'

/** What became of tags at one moment, as listeners to the live values heard of it. */
export interface Moment {
  /** By the clock of this machine, epoch ms. */
  at: number
  /** Their device told them just then; else only what is known of them changed. */
  came: boolean
  handles: number[]
  values: Scalar[]
  statuses: number[]
  /** Device times, epoch ms. */
  times: number[]
}

const VERSION = 1

/** Ways in which a value is written. */
const Kind = { same: 0, nothing: 1, no: 2, yes: 3, whole: 4, single: 5, double: 6, text: 7, large: 8, torn: 9 } as const
/** Beside the kind: another status than before, and another distance of device time and moment (whole ms, or exactly). */
const STATUS = 16
const WHOLE_TIME = 32
const EXACT_TIME = 64

/** Whole numbers up to this are written as their difference. */
const NEAR = 2 ** 48

const zigzag = (n: number) => (n < 0 ? -2 * n - 1 : 2 * n)
const unzigzag = (n: number) => (n % 2 === 1 ? -(n + 1) / 2 : n / 2)

/** Samples of one tag, as places among all that were gathered. */
type Places = number[]

/**
 * Gathers moments and writes them as one block of octets, tag by tag, so that what is alike stands together.
 *
 * Layout, little-endian, numbers as varints (base 128) unless said: version u8; first moment f64; number of moments; of each the
 * zigzag difference to the one before, whole ms, doubled, with the lowest bit set where values came; number of tags; of each, in the order of
 * their handles, the difference to the handle before, its samples and the octets they take; then the samples, tag by tag. A sample:
 * moments passed since the one before; a head (kind of value, and what differs); status u32; distance of device time and moment
 * (zigzag varint or f64); value. A text that holds half a character is written by its UTF-16 units, all others in UTF-8.
 */
export class BlockMaker {
  private readonly moments: { at: number; came: boolean }[] = []
  private readonly tags = new Map<number, Places>()
  private readonly moment: number[] = []
  private readonly values: Scalar[] = []
  private readonly statuses: number[] = []
  private readonly times: number[] = []
  /** About so many octets wait in texts. */
  private texts = 0

  /** How many samples are in it. */
  get samples(): number {
    return this.values.length
  }

  /** About so many octets would come of it. */
  get octets(): number {
    return this.values.length * 12 + this.texts
  }

  begin(at: number, came: boolean): void {
    this.moments.push({ at: Math.round(at), came })
  }

  /** A tag at the moment that was begun last. */
  add(handle: number, value: Scalar, status: number, time: number): void {
    const place = this.values.length
    const places = this.tags.get(handle)
    if (places) places.push(place)
    else this.tags.set(handle, [place])
    this.moment.push(this.moments.length - 1)
    this.values.push(value)
    this.statuses.push(status)
    this.times.push(time)
    if (typeof value === 'string') this.texts += value.length
  }

  /** All of it as octets. */
  write(): Uint8Array {
    const head = new Writer(4096)
    const body = new Writer()
    head.u8(VERSION)
    head.f64(this.moments[0]?.at ?? 0)
    head.varint(this.moments.length)
    let before = this.moments[0]?.at ?? 0
    for (const { at, came } of this.moments) {
      head.varint(zigzag(at - before) * 2 + (came ? 1 : 0))
      before = at
    }
    head.varint(this.tags.size)
    const parts: Uint8Array[] = []
    let handle = 0
    for (const [h, places] of [...this.tags].sort((a, b) => a[0] - b[0])) {
      this.track(body, places)
      const octets = body.take()
      parts.push(octets)
      head.varint(h - handle)
      head.varint(places.length)
      head.varint(octets.length)
      handle = h
    }
    return joined([head.take(), ...parts])
  }

  private track(w: Writer, places: Places): void {
    const { moment, values, statuses, times, moments } = this
    let lastMoment = 0
    let lastValue: Scalar | undefined
    let status = 0
    let distance = 0
    for (const i of places) {
      w.varint(moment[i]! - lastMoment)
      lastMoment = moment[i]!
      const value = values[i]!
      const now = times[i]! - moments[lastMoment]!.at
      const kind = kindOf(value, lastValue)
      const time = now === distance ? 0 : Number.isInteger(now) && Math.abs(now) < NEAR ? WHOLE_TIME : EXACT_TIME
      w.u8(kind | (statuses[i] === status ? 0 : STATUS) | time)
      if (statuses[i] !== status) w.u32((status = statuses[i]!))
      if (time === WHOLE_TIME) w.varint(zigzag(now))
      else if (time === EXACT_TIME) w.f64(now)
      distance = now
      writeValue(w, kind, value, lastValue)
      lastValue = value
    }
  }
}

function kindOf(value: Scalar, before: Scalar | undefined): number {
  if (value === null) return Kind.nothing
  if (typeof value === 'boolean') return value ? Kind.yes : Kind.no
  if (Object.is(value, before)) return Kind.same
  if (typeof value === 'string') return isTorn(value) ? Kind.torn : Kind.text
  if (typeof value === 'bigint') return Kind.large
  if (Number.isInteger(value) && Math.abs(value) < NEAR && !Object.is(value, -0)) return Kind.whole
  return Object.is(Math.fround(value), value) ? Kind.single : Kind.double
}

/** From what the difference of a whole number is taken. */
const wholeBefore = (before: Scalar | undefined) => (typeof before === 'number' && Number.isInteger(before) && Math.abs(before) < NEAR ? before : 0)

function writeValue(w: Writer, kind: number, value: Scalar, before: Scalar | undefined): void {
  if (kind === Kind.whole) w.varint(zigzag((value as number) - wholeBefore(before)))
  else if (kind === Kind.single) w.f32(value as number)
  else if (kind === Kind.double) w.f64(value as number)
  else if (kind === Kind.text || kind === Kind.large) {
    const octets = texts.encode(String(value))
    w.varint(octets.length)
    w.raw(octets)
  } else if (kind === Kind.torn) {
    const text = value as string
    w.varint(text.length)
    for (let i = 0; i < text.length; i++) w.u16(text.charCodeAt(i))
  }
}

const texts = new TextEncoder()

function joined(parts: readonly Uint8Array[]): Uint8Array {
  const out = new Uint8Array(parts.reduce((n, p) => n + p.length, 0))
  let at = 0
  for (const p of parts) {
    out.set(p, at)
    at += p.length
  }
  return out
}

/** Most moments, tags and samples that are believed of a block: what says more is damaged. */
const MOST = 10_000_000

/** Reads what was written of some tags, moment by moment; moments in which none of them was touched are left out. Throws an `OctetError` when it is damaged. */
export function readBlock(octets: Uint8Array, wanted: (handle: number) => boolean): Moment[] {
  const r = new Reader(octets)
  if (r.u8() !== VERSION) throw new OctetError('It is no block of a known version', 0)
  const moments = momentsOf(r)
  let at = 0
  const tracks: { handle: number; samples: number; from: number }[] = []
  let handle = 0
  for (let left = count(r); left > 0; left--) {
    handle += small(r)
    const samples = count(r)
    tracks.push({ handle, samples, from: at })
    at += small(r)
  }
  const begin = r.at
  if (begin + at !== octets.length) throw new OctetError('Its octets are not as many as it says', begin)
  for (const { handle: h, samples, from } of tracks) {
    if (!wanted(h)) continue
    r.at = begin + from
    readTrack(r, h, samples, moments)
  }
  return moments.filter((m) => m.handles.length > 0)
}

function momentsOf(r: Reader): Moment[] {
  let at = r.f64()
  const out: Moment[] = []
  for (let left = count(r); left > 0; left--) {
    const n = small(r)
    at += unzigzag(Math.floor(n / 2))
    out.push({ at, came: n % 2 === 1, handles: [], values: [], statuses: [], times: [] })
  }
  return out
}

function readTrack(r: Reader, handle: number, samples: number, moments: readonly Moment[]): void {
  let moment = 0
  let value: Scalar = null
  let first = true
  let status = 0
  let distance = 0
  for (let left = samples; left > 0; left--) {
    moment += small(r)
    const m = moments[moment]
    if (!m) throw new OctetError('A sample lies at no moment', r.at)
    const head = r.u8()
    if (head & STATUS) status = r.u32()
    if (head & WHOLE_TIME) distance = unzigzag(small(r))
    else if (head & EXACT_TIME) distance = r.f64()
    value = readValue(r, head & 15, first ? undefined : value)
    first = false
    m.handles.push(handle)
    m.values.push(value)
    m.statuses.push(status)
    m.times.push(m.at + distance)
  }
}

function readValue(r: Reader, kind: number, before: Scalar | undefined): Scalar {
  switch (kind) {
    case Kind.same:
      return before ?? null
    case Kind.nothing:
      return null
    case Kind.no:
      return false
    case Kind.yes:
      return true
    case Kind.whole:
      return unzigzag(small(r)) + wholeBefore(before)
    case Kind.single:
      return r.f32()
    case Kind.double:
      return r.f64()
    case Kind.text:
      return r.utf8(small(r))
    case Kind.torn:
      return Array.from({ length: count(r) }, () => String.fromCharCode(r.u16())).join('')
    case Kind.large: {
      const at = r.at
      const text = r.utf8(small(r))
      if (!/^-?\d{1,1000}$/.test(text)) throw new OctetError('A whole number is none', at)
      return BigInt(text)
    }
    default:
      throw new OctetError(`A value of kind ${kind}`, r.at)
  }
}

const small = (r: Reader): number => {
  const n = Number(r.varint())
  if (!Number.isSafeInteger(n)) throw new OctetError('A number is too large', r.at)
  return n
}
const count = (r: Reader): number => {
  const n = small(r)
  if (n > MOST) throw new OctetError(`${n} of something`, r.at)
  return n
}
