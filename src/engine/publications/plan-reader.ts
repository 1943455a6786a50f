import type { Plan } from '~/contract/publication'
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

  constructor(readonly plan: Plan) {
    this.whose = whoseOf(plan)
    plan.messages.forEach((m, n) => {
      // A place that several share tells nobody whose it is.
      if (typeof m.place === 'string') this.at.set(m.place, this.at.has(m.place) ? -1 : n)
    })
  }

  /** Which message of the plan goes to a place; undefined: none, or several do. */
  messageAt(place: string): number | undefined {
    const n = this.at.get(place)
    return n === -1 ? undefined : n
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
