import type { Plan } from '~/contract/publication'
import type { Properties } from '~/core/delivery/properties'
import { patternOf } from '~/core/proof/origins'
import { compressionOf, decoderOf, scopeOf } from '~/core/shape/registry'
import type { Decoder, Reading } from '~/core/shape/shape'
import { unpack } from './compress'

/** Whose each message of a plan is, by its place in the plan. */
function whoseOf(plan: Plan): string[] {
  const twins = new Map<string, number>()
  return plan.messages.map((m) => {
    const own = m.equipment.map((e) => plan.equipment[e]!.id).join(' ')
    const members = m.members?.map((i) => plan.equipment[m.equipment[0]!]!.members[i]!.key).join(' ') ?? ''
    const twin = twins.get(`${own} ${members}`) ?? 0
    twins.set(`${own} ${members}`, twin + 1)
    return `${own} ${members} ${twin}`
  })
}

/** Reads messages of one plan. */
export class PlanReader {
  readonly whose: string[]
  private readonly decoders = new Map<number, Decoder>()
  private readonly at = new Map<string, number>()
  private readonly byPlace = new Map<string, number[]>()
  /** Messages whose place waits for a time or a value. */
  private readonly waiting: { n: number; pattern: RegExp }[] = []

  constructor(readonly plan: Plan) {
    this.whose = whoseOf(plan)
    plan.messages.forEach((m, n) => {
      // A place that several share tells nobody whose it is.
      if (typeof m.place !== 'string') {
        this.waiting.push({ n, pattern: patternOf(m.place) })
        return
      }
      this.at.set(m.place, this.at.has(m.place) ? -1 : n)
      const key = `${m.place}\n${typeof m.key === 'string' ? m.key : '*'}`
      this.byPlace.set(key, [...(this.byPlace.get(key) ?? []), n])
    })
  }

  /** Which message of the plan goes to a place; undefined: none, or several do. */
  messageAt(place: string): number | undefined {
    const n = this.at.get(place)
    return n === -1 ? undefined : n
  }

  /**
   * What stands in a message, and which of the plan it is: by its place, and where several share that, by its key, by what travels beside
   * it, and by what can be read as it; null: that cannot be told.
   */
  read(place: string, { key, headers }: Pick<Properties, 'key' | 'headers'>, payload: Uint8Array): { n: number; readings: Reading[] } | null {
    const fixed = [...(this.byPlace.get(`${place}\n${key}`) ?? []), ...(this.byPlace.get(`${place}\n*`) ?? [])]
    const there = fixed.length > 0 ? fixed : this.waiting.filter(({ pattern }) => pattern.test(place)).map(({ n }) => n)
    const beside = there.length > 1 ? there.filter((n) => this.fits(n, headers)) : there
    let found: { n: number; readings: Reading[] } | null = null
    for (const n of beside) {
      const readings = this.readings(n, payload, headers)
      if (!readings || (beside.length > 1 && readings.length === 0)) continue
      // What says itself whose it is can be read as any of them.
      if (found && !found.readings.every((r) => r.equipment !== null)) return null
      found ??= { n, readings }
    }
    return found
  }

  /** What travels beside a message is what the plan gives this one. */
  private fits(n: number, headers: readonly [string, string][]): boolean {
    const told = new Map(headers)
    return this.plan.messages[n]!.headers.every(([name, value]) => typeof value !== 'string' || (told.get(name) ?? '') === value)
  }

  readings(n: number, payload: Uint8Array, headers: readonly [string, string][]): Reading[] | null {
    let decode = this.decoders.get(n)
    if (!decode) this.decoders.set(n, (decode = decoderOf(this.plan.shape, scopeOf(this.plan, this.plan.messages[n]!))))
    const compression = compressionOf(this.plan.shape)
    try {
      const decoded = decode(compression === 'none' ? payload : unpack(compression, payload), Object.fromEntries(headers))
      return 'problem' in decoded ? null : decoded.readings
    } catch {
      return null
    }
  }
}
