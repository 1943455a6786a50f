import { randomBytes } from 'node:crypto'

/** What a unit may, at most; null: as much as it likes. */
export interface Limits {
  perDay: number | null
  perSecond: number | null
  payloadOctets: number
}

/** One identity that a hub knows. */
export interface Unit {
  name: string
  enabled: boolean
  /** Base64; the second is there while they are exchanged. */
  keys: [string, string]
  /** SHA-256 of certificates that it may show, lower-case hex. */
  certificates: string[]
  /** Streams of data that were declared. */
  aliases: Set<string>
  limits: Limits
  /** What it sent today, and in this second. */
  used: { day: number; dayCount: number; second: number; secondCount: number }
  connected: boolean
  lastAt: number | null
  taken: number
  refused: number
  desired: unknown
  reported: unknown
  /** What it told of itself last. */
  self: unknown
}

export type KeptUnit = Pick<Unit, 'name' | 'enabled' | 'keys' | 'certificates' | 'limits'> & { aliases: string[] }

export const usualLimits: Limits = { perDay: null, perSecond: null, payloadOctets: 65_536 }
const DAY_MS = 86_400_000
export const newKey = () => randomBytes(32).toString('base64')

/** Names of units: as they may stand in topics, tokens and certificates. */
const NAME = /^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$/

/** The units of a hub. */
export class Units {
  private readonly all = new Map<string, Unit>()

  constructor(private readonly limits: Limits = usualLimits) {}

  add(name: string): Unit | null {
    if (!NAME.test(name) || this.all.has(name)) return null
    return this.put({ name, enabled: true, keys: [newKey(), newKey()], certificates: [], aliases: [], limits: { ...this.limits } })
  }

  /** One that was known before. */
  put({ aliases, ...kept }: KeptUnit): Unit {
    const unit: Unit = {
      ...kept,
      aliases: new Set(aliases),
      used: { day: 0, dayCount: 0, second: 0, secondCount: 0 },
      connected: false,
      lastAt: null,
      taken: 0,
      refused: 0,
      desired: null,
      reported: null,
      self: null,
    }
    this.all.set(unit.name, unit)
    return unit
  }

  /** What a hub still knows after a new start. */
  kept(): KeptUnit[] {
    return this.list().map(({ name, enabled, keys, certificates, aliases, limits }) => ({
      ...{ name, enabled, keys, certificates, limits },
      aliases: [...aliases],
    }))
  }

  get(name: string): Unit | null {
    return this.all.get(name) ?? null
  }

  list(): Unit[] {
    return [...this.all.values()]
  }

  /** The second key becomes the first, and a new one is made. */
  rotate(unit: Unit): void {
    unit.keys = [unit.keys[1], newKey()]
  }

  /** Counts a message; gives which limit it goes beyond, null: none. */
  count(unit: Unit, now: number): 'perDay' | 'perSecond' | null {
    const { used, limits } = unit
    const [day, second] = [Math.floor(now / DAY_MS), Math.floor(now / 1000)]
    if (used.day !== day) Object.assign(used, { day, dayCount: 0 })
    if (used.second !== second) Object.assign(used, { second, secondCount: 0 })
    if (limits.perDay !== null && used.dayCount >= limits.perDay) return 'perDay'
    if (limits.perSecond !== null && used.secondCount >= limits.perSecond) return 'perSecond'
    used.dayCount++
    used.secondCount++
    return null
  }
}
