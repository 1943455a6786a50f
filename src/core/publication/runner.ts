import type { Plan } from '~/contract/publication'
import { compactJson, type Encoded, type ValueArrays } from '~/core/shape/compact-json'
import { deadbandWidth, isChange, type Scalar } from '~/core/value/deadband'
import { qualityOf, Status } from '~/core/value/quality'

/**
 * A plan made ready to run: flat arrays from tag handle to the members that it fills. Nothing in here looks up a name.
 * The runner only says which equipment speaks and with what; numbering and storing are the caller's.
 */
export class Runner {
  /** For each handle, indexes into the member arrays. */
  private readonly membersOf = new Map<number, number[]>()
  private readonly owner: number[] = []
  private readonly handle: number[] = []
  private readonly width: number[] = []
  private readonly sentValue: (Scalar | undefined)[] = []
  private readonly sentQuality: string[] = []
  private readonly first: number[] = []
  private readonly dirty = new Set<number>()
  private readonly encoders: ((from: ValueArrays, now: number) => Encoded)[] = []
  readonly handles: number[]

  constructor(readonly plan: Plan) {
    plan.equipment.forEach((one, e) => {
      this.first.push(this.handle.length)
      this.encoders.push(compactJson(one.members))
      for (const m of one.members) {
        if (m.handle === null) continue
        const i = this.handle.length
        this.owner.push(e)
        this.handle.push(m.handle)
        this.width.push(deadbandWidth(m.deadband))
        this.sentValue.push(undefined)
        this.sentQuality.push('')
        this.membersOf.set(m.handle, [...(this.membersOf.get(m.handle) ?? []), i])
      }
    })
    this.first.push(this.handle.length)
    this.handles = [...this.membersOf.keys()]
  }

  /** Notes that a tag has a new value or status. */
  touch(handle: number, values: ValueArrays): void {
    const members = this.membersOf.get(handle)
    if (!members) return
    const value = values.value[handle] ?? null
    for (const i of members) {
      const sent = this.sentValue[i]
      if (sent === undefined || isChange(sent, value, this.width[i]!) || this.sentQuality[i] !== qualityOf(values.status[handle]!))
        this.dirty.add(this.owner[i]!)
    }
  }

  /** Equipment that has something new to say; those with a member that never had a value are held back until it has. */
  drain(values: ValueArrays): number[] {
    if (this.dirty.size === 0) return []
    const ready: number[] = []
    for (const e of this.dirty) {
      if (!this.complete(e, values)) continue
      ready.push(e)
    }
    for (const e of ready) this.dirty.delete(e)
    return ready
  }

  /** All equipment that has its first values: for publications that speak by the clock. */
  all(values: ValueArrays): number[] {
    return this.plan.equipment.map((_, e) => e).filter((e) => this.complete(e, values))
  }

  private complete(e: number, values: ValueArrays): boolean {
    for (let i = this.first[e]!; i < this.first[e + 1]!; i++) {
      const status = values.status[this.handle[i]!]
      if (status === undefined || status === Status.waitingForInitialData) return false
    }
    return true
  }

  /** The payload of one equipment now; remembers it as the last one sent. */
  encode(e: number, values: ValueArrays, now: number): Encoded {
    for (let i = this.first[e]!; i < this.first[e + 1]!; i++) {
      const h = this.handle[i]!
      this.sentValue[i] = values.value[h] ?? null
      this.sentQuality[i] = qualityOf(values.status[h]!)
    }
    return this.encoders[e]!(values, now)
  }
}
