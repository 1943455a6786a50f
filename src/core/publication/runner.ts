import type { Plan, PlanMember, PlanMessage } from '~/contract/publication'
import { kindOf } from '../address/kinds'
import { addressWriter } from '../address/topic-template'
import { encoderOf, scopeOf, shapeOf, wholeEvery } from '../shape/registry'
import { type Encoded, type Encoder, type HostFacts, type Part, Series } from '../shape/shape'
import { isChange, type Scalar } from '../value/deadband'
import { qualityOf, Status } from '../value/quality'
import { type Cell, makeCell, type ValueArrays } from './cell'
import type { Look } from './timing/hold'

/** A payload with the address it goes to. */
export interface Addressed extends Omit<Encoded, 'before'> {
  /** What goes before it, each with its place. */
  before: { payload: Encoded['payload']; place: string }[] | undefined
  place: string
  key: string
  headers: [string, string][]
  responseTopic: string
}

type Text = ReturnType<typeof addressWriter>

/** What has to hold for a message to speak, and what says that it is over. */
interface ConditionCells {
  when: Cell
  until: Cell | null
}

/** One message of the plan, made ready. */
interface Ready {
  condition: ConditionCells | null
  encoder: Encoder
  parts: Part[]
  /** For each part the cells behind it, as indexes; -1 for constants. */
  places: number[][]
  /** All cells that it waits for and that make it speak. */
  moving: number[]
  /** All cells of its first equipment, for its address. */
  steering: readonly Cell[]
  /** How many went since the last whole one; -1: none yet. */
  sinceWhole: number
  place: Text
  key: Text
  headers: [string, Text][]
  responseTopic: Text
}

const noHeaders: [string, string][] = []

/** How far a cell must move to count as changed; below zero: that share of what was sent last. */
function widthOf(trigger: Plan['trigger'] | undefined, { range }: PlanMember, cell: Cell): number {
  const deadband = trigger?.kind === 'change' ? trigger.deadband : undefined
  if (!deadband) return cell.width
  if (deadband.kind === 'absolute') return deadband.size
  if (deadband.kind === 'value') return deadband.percent === 0 ? 0 : -deadband.percent / 100
  return range ? (Math.abs(range.high - range.low) * deadband.percent) / 100 : 0
}

/**
 * A plan made ready to run: from tag handle to the members that it fills. Nothing in here looks up a name. The runner only
 * says which message is due and what is in it; numbering and storing are the caller's.
 */
export class Runner {
  /** For each handle, indexes into the cells. */
  private readonly cellsOf = new Map<number, number[]>()
  private readonly cells: Cell[] = []
  /** Messages that each cell makes speak. */
  private readonly owners: number[][] = []
  /** How far each cell must move to count as changed; below zero: that share of what was sent last. */
  private readonly widths: number[] = []
  private readonly sentValue: (Scalar | undefined)[] = []
  private readonly sentQuality: string[] = []
  private readonly messages: Ready[] = []
  /** For each handle, messages whose condition reads it. */
  private readonly conditionsOf = new Map<number, number[]>()
  /** Messages whose condition has an input that has changed. */
  private readonly toLook = new Set<number>()
  /** Cells with an input that has changed. */
  private readonly touched = new Set<number>()
  private readonly dirty = new Set<number>()
  private readonly every: number
  /** For each equipment of the plan its cells, constants too. */
  readonly cellsOfEquipment: readonly (readonly Cell[])[]
  readonly handles: number[]
  private readonly besides: (place: string, suffix: string) => string

  constructor(
    readonly plan: Plan,
    host?: HostFacts,
  ) {
    this.every = wholeEvery(plan.shape)
    this.besides = kindOf(plan.address).beside
    const signed = shapeOf(plan.shape).wholes === 'signed-64'
    const places: number[][] = []
    this.cellsOfEquipment = plan.equipment.map((one) => {
      const own: number[] = []
      const cells = one.members.map((m) => {
        const cell = makeCell(m.fill, m.dataType, signed)
        if (cell.handles.length === 0) {
          own.push(-1)
          return cell
        }
        const i = this.cells.push(cell) - 1
        own.push(i)
        this.owners.push([])
        this.widths.push(widthOf(plan.trigger, m, cell))
        this.sentValue.push(undefined)
        this.sentQuality.push('')
        for (const h of cell.handles) {
          const list = this.cellsOf.get(h)
          if (list) list.push(i)
          else this.cellsOf.set(h, [i])
        }
        return cell
      })
      places.push(own)
      return cells
    })
    const series = new Series()
    const { levels } = kindOf(plan.address)
    plan.messages.forEach((message, n) => {
      const scope = scopeOf(plan, message, host, series)
      const picked = message.equipment.map((e) => message.members ?? this.cellsOfEquipment[e]!.map((_, i) => i))
      const parts = message.equipment.map((e, p): Part => {
        const cells = picked[p]!.map((i) => this.cellsOfEquipment[e]![i]!)
        return { cells, changed: new Uint8Array(cells.length) }
      })
      const behind = message.equipment.map((e, p) => picked[p]!.map((i) => places[e]![i]!))
      const steering = message.steering.map((i) => places[message.equipment[0]!]![i]!)
      const moving = [...new Set([...behind.flat(), ...steering])].filter((i) => i >= 0)
      for (const i of moving) this.owners[i]!.push(n)
      this.messages.push({
        condition: this.condition(message, n),
        encoder: encoderOf(plan.shape, scope),
        parts,
        places: behind,
        moving,
        steering: this.cellsOfEquipment[message.equipment[0] ?? 0] ?? [],
        sinceWhole: -1,
        place: addressWriter(message.place, levels),
        key: addressWriter(message.key),
        headers: message.headers.map(([name, value]) => [name, addressWriter(value)]),
        responseTopic: addressWriter(message.responseTopic, levels),
      })
    })
    this.handles = [...new Set([...this.cellsOf.keys(), ...this.conditionsOf.keys()])]
  }

  private condition({ condition }: PlanMessage, n: number): ConditionCells | null {
    if (!condition) return null
    const cells = { when: makeCell(condition.when, 'boolean'), until: condition.until && makeCell(condition.until, 'boolean') }
    for (const h of new Set([...cells.when.handles, ...(cells.until?.handles ?? [])])) {
      const list = this.conditionsOf.get(h)
      if (list) list.push(n)
      else this.conditionsOf.set(h, [n])
    }
    this.toLook.add(n)
    return cells
  }

  /** Notes that a tag has a new value or status. */
  touch(handle: number): void {
    const cells = this.cellsOf.get(handle)
    if (cells) for (const i of cells) this.touched.add(i)
    const conditions = this.conditionsOf.get(handle)
    if (conditions) for (const n of conditions) this.toLook.add(n)
  }

  /** Looks at the conditions with news. What has no good value neither holds nor is over. */
  looks(values: ValueArrays, now: number): [n: number, look: Look][] {
    const out: [number, Look][] = []
    for (const n of this.toLook) {
      const { when, until } = this.messages[n]!.condition!
      const said = (cell: Cell): Scalar => {
        cell.read(values, now)
        return qualityOf(cell.status) === 'bad' ? null : cell.value
      }
      const holds = said(when)
      const over = until === null ? (holds === false ? true : null) : said(until)
      out.push([n, over === true ? 'over' : holds === true ? 'holds' : 'between'])
    }
    this.toLook.clear()
    return out
  }

  /** Takes what there is for said: only what changes from now on is news. */
  skip(n: number): void {
    for (const i of this.messages[n]!.moving) {
      this.sentValue[i] = this.cells[i]!.value
      this.sentQuality[i] = qualityOf(this.cells[i]!.status)
    }
  }

  /** Whether a message has something to say that was not said. */
  hasNews(n: number, values: ValueArrays, now: number): boolean {
    this.settle(values, now)
    return this.messages[n]!.moving.some((i) => this.differs(i))
  }

  /** Whether a message has its first values. */
  hasValues(n: number, values: ValueArrays, now: number): boolean {
    this.settle(values, now)
    return this.complete(n, values, now)
  }

  private differs(i: number): boolean {
    const cell = this.cells[i]!
    const sent = this.sentValue[i]
    const width = this.widths[i]!
    const far = width >= 0 ? width : typeof sent === 'number' || typeof sent === 'bigint' ? -width * Math.abs(Number(sent)) : 0
    return sent === undefined || isChange(sent, cell.value, far) || this.sentQuality[i] !== qualityOf(cell.status)
  }

  /** Reads what was touched, each cell once however many of its inputs changed, and notes which messages have news. */
  private settle(values: ValueArrays, now: number): void {
    for (const i of this.touched) {
      this.cells[i]!.read(values, now)
      if (this.differs(i)) for (const n of this.owners[i]!) this.dirty.add(n)
    }
    this.touched.clear()
  }

  /**
   * Messages that have something new to say. Those about one equipment with a member that never had a value are held back
   * until it has; those about many until some value is there.
   */
  drain(values: ValueArrays, now: number): number[] {
    this.settle(values, now)
    if (this.dirty.size === 0) return []
    const ready: number[] = []
    for (const n of this.dirty) if (this.complete(n, values, now)) ready.push(n)
    for (const n of ready) this.dirty.delete(n)
    return ready
  }

  /** All messages that have their first values: for publications that speak by the clock. */
  all(values: ValueArrays, now: number): number[] {
    this.settle(values, now)
    return this.messages.map((_, n) => n).filter((n) => this.complete(n, values, now))
  }

  private complete(n: number, values: ValueArrays, now: number): boolean {
    const { moving, parts } = this.messages[n]!
    let waiting = 0
    for (const i of moving) {
      const cell = this.cells[i]!
      if (cell.status === Status.waitingForInitialData) cell.read(values, now)
      if (cell.status !== Status.waitingForInitialData) continue
      waiting++
      if (parts.length === 1) return false
    }
    // One silent equipment among many does not keep the others from speaking.
    return waiting === 0 || waiting < moving.length
  }

  /**
   * One message as last settled, with its address; remembers it as the last one sent. Null: nothing to say after all.
   * `seq` is the number that it gets; `all`: all of it is to be said, though nothing changed.
   */
  encode(n: number, now: number, seq: number, all = false): Addressed | null {
    const m = this.messages[n]!
    const whole = all || this.every === 1 || m.sinceWhole < 0 || (this.every > 0 && m.sinceWhole + 1 >= this.every)
    if (this.every !== 1)
      for (let p = 0; p < m.parts.length; p++) {
        const { changed } = m.parts[p]!
        const places = m.places[p]!
        for (let i = 0; i < places.length; i++) changed[i] = places[i]! >= 0 && this.differs(places[i]!) ? 1 : 0
      }
    const encoded = !whole && m.parts.every((p) => !p.changed.includes(1)) ? null : m.encoder({ parts: m.parts, now, seq, whole })
    for (const i of m.moving) {
      const cell = this.cells[i]!
      this.sentValue[i] = cell.value
      this.sentQuality[i] = qualityOf(cell.status)
    }
    if (!encoded) return null
    m.sinceWhole = whole ? 0 : m.sinceWhole + 1
    const { at } = encoded
    const text = (t: Text) => (typeof t === 'string' ? t : t((i) => m.steering[i]?.value, at))
    const place = text(m.place)
    const own = m.headers.length === 0 ? noHeaders : m.headers.map(([name, t]): [string, string] => [name, text(t)])
    return {
      payload: encoded.payload,
      at,
      before: encoded.before?.map((b) => ({ payload: b.payload, place: this.besides(place, b.suffix) })),
      place,
      key: text(m.key),
      headers: encoded.headers ? [...encoded.headers, ...own] : own,
      responseTopic: text(m.responseTopic),
    }
  }
}
