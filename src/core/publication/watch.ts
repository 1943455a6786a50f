import type { Plan, PlanGate, PlanMember, PlanMessage } from '~/contract/publication'
import { digest } from '../delivery/digest'
import type { LookedUp } from '../rows/looked-up'
import type { Part } from '../shape/shape'
import { isChange, type Scalar } from '../value/deadband'
import { qualityOf, Status } from '../value/quality'
import { Constant } from './cells/basic'
import type { Cell, Remembering, ValueArrays } from './cells/cell'
import type { Table } from './cells/made'
import { CellMaker } from './cells/maker'
import type { Look } from './timing/hold'

/** What is watched: members of equipment, and messages that they make speak. */
export interface Watched {
  trigger?: Plan['trigger'] | undefined
  /** Where it is an event of some values only: the handles of those. */
  speaking?: Plan['speaking'] | undefined
  equipment: readonly { id: string; members: readonly PlanMember[] }[]
  messages: readonly Pick<PlanMessage, 'equipment' | 'members' | 'steering' | 'condition' | 'gates'>[]
}

/** With what its cells are made. */
export interface WatchMeans {
  tables?: readonly Table[]
  /** Whole numbers up to 2^63 - 1 only. */
  signed?: boolean
  lookups?: readonly LookedUp[]
}

/** What has to hold for a message to speak, and what says that it is over. */
interface ConditionCells {
  when: Cell
  until: Cell | null
}

/** What a message has to pass, and the cell that says whether it does; null: it compares with what was said last. */
interface Gate {
  is: PlanGate
  cell: Cell | null
}

/** One message made ready. */
interface Ready {
  condition: ConditionCells | null
  gates: Gate[]
  parts: Part[]
  /** For each part the cells behind it, as indexes; -1 for constants. */
  places: number[][]
  /** All cells that it waits for. */
  moving: number[]
  /** Those of them whose change is news. */
  speaking: number[]
  /** All cells of its first equipment, for its address. */
  steering: readonly Cell[]
  /** Cells that read nothing, and still may say something else each time: `now()`. */
  unread: readonly Cell[]
}

/** How far a cell must move to count as changed; below zero: that share of what was sent last. */
function widthOf(trigger: Plan['trigger'] | undefined, { range }: PlanMember, cell: Cell): number {
  const deadband = trigger?.kind === 'change' ? trigger.deadband : undefined
  if (!deadband) return cell.width
  if (deadband.kind === 'absolute') return deadband.size
  if (deadband.kind === 'value') return deadband.percent === 0 ? 0 : -deadband.percent / 100
  return range ? (Math.abs(range.high - range.low) * deadband.percent) / 100 : 0
}

const nothing: ValueArrays = { value: [], status: [], time: [] }

function listed<K>(lists: Map<K, number[]>, key: K, n: number): void {
  const list = lists.get(key)
  if (list) list.push(n)
  else lists.set(key, [n])
}

/**
 * Watches values for messages: which of them have news, what is in them, what lets them pass. From a handle to the members that
 * it fills nothing looks up a name.
 */
export class Watch {
  /** For each handle, indexes into the cells. */
  private readonly cellsOf = new Map<number, number[]>()
  private readonly cells: Cell[] = []
  /** Messages that each cell makes speak. */
  private readonly owners: number[][] = []
  /** How far each cell must move to count as changed; below zero: that share of what was sent last. */
  private readonly widths: number[] = []
  private readonly saidValue: (Scalar | undefined)[] = []
  private readonly saidQuality: string[] = []
  private readonly messages: Ready[] = []
  /** For each handle, messages whose condition reads it. */
  private readonly conditionsOf = new Map<number, number[]>()
  /** For each handle, messages that have to pass something that reads it. */
  private readonly gatesOf = new Map<number, number[]>()
  /** Messages whose condition has an input that has changed. */
  private readonly toLook = new Set<number>()
  /** Messages that may pass now where they did not before. */
  private readonly mayPass = new Set<number>()
  /** Where each value that comes in is an event: for each handle, messages that it makes speak. */
  private readonly reportsOf = new Map<number, number[]>()
  /** Messages of which a value came in. */
  private readonly reported = new Set<number>()
  /** Cells with an input that has changed. */
  private readonly touched = new Set<number>()
  private readonly dirty = new Set<number>()
  /** Cells that move by themselves. */
  private readonly moving: number[] = []
  /** For each equipment its cells, constants too. */
  readonly cellsOfEquipment: readonly (readonly Cell[])[]
  readonly handles: number[]
  /** Steps that may hold messages back, in their order. */
  readonly holding: readonly number[]
  /** What keeps something from one message to the next, by a name that is the same as long as it is made from the same. */
  readonly remembering: ReadonlyMap<string, Remembering>

  constructor(watched: Watched, { tables = [], signed = false, lookups = [] }: WatchMeans = {}) {
    const { trigger, equipment, messages, speaking } = watched
    const event = trigger?.kind === 'event' ? trigger.of : null
    const events = speaking ? new Set(speaking) : null
    const isNews = (i: number) => event === null || (event === 'record' && this.cells[i]!.handles.some((h) => events?.has(h)))
    const makers = equipment.map(() => new CellMaker(tables, signed, lookups))
    const places: number[][] = []
    this.cellsOfEquipment = equipment.map((one, e) => {
      const own: number[] = []
      const cells = one.members.map((m) => {
        const cell = makers[e]!.make(m.fill, m.dataType)
        if (cell.handles.length === 0) {
          own.push(-1)
          return cell
        }
        const i = this.cells.push(cell) - 1
        own.push(i)
        this.owners.push([])
        this.widths.push(widthOf(trigger, m, cell))
        this.saidValue.push(undefined)
        this.saidQuality.push('')
        if (cell.timed) this.moving.push(i)
        for (const h of cell.handles) listed(this.cellsOf, h, i)
        return cell
      })
      places.push(own)
      return cells
    })
    messages.forEach((message, n) => {
      const first = message.equipment[0]
      const picked = message.equipment.map((e) => message.members ?? this.cellsOfEquipment[e]!.map((_, i) => i))
      const parts = message.equipment.map((e, p): Part => {
        const cells = picked[p]!.map((i) => this.cellsOfEquipment[e]![i]!)
        return { cells, changed: new Uint8Array(cells.length) }
      })
      const behind = message.equipment.map((e, p) => picked[p]!.map((i) => places[e]![i]!))
      const steering = message.steering.map((i) => places[first!]![i]!)
      const moving = [...new Set([...behind.flat(), ...steering])].filter((i) => i >= 0)
      const telling = moving.filter(isNews)
      for (const i of telling) this.owners[i]!.push(n)
      if (event === 'value')
        for (const h of new Set(moving.flatMap((i) => this.cells[i]!.handles))) if (events?.has(h) ?? true) listed(this.reportsOf, h, n)
      const gates = this.gates(message.gates ?? [], n, makers[first ?? 0])
      const all = [...message.equipment.flatMap((e) => this.cellsOfEquipment[e]!), ...gates.flatMap((g) => g.cell ?? [])]
      this.messages.push({
        condition: this.condition(message, n),
        gates,
        unread: all.filter((cell) => cell.handles.length === 0 && !(cell instanceof Constant)),
        parts,
        places: behind,
        moving,
        speaking: telling,
        steering: this.cellsOfEquipment[first ?? 0] ?? [],
      })
    })
    const named = equipment.flatMap(({ id }, e) =>
      [...makers[e]!.remembering].map(([made, one]) => [`${id} ${digest(new TextEncoder().encode(made))}`, one] as const),
    )
    this.remembering = new Map(named)
    this.holding = [...new Set(this.messages.flatMap((m) => m.gates.map((g) => g.is.step)))].sort((a, b) => a - b)
    // What stands for the rows of a source is none.
    this.handles = [...new Set([...this.cellsOf.keys(), ...this.conditionsOf.keys(), ...this.gatesOf.keys()])].filter((h) => h >= 0)
  }

  private condition({ condition }: Watched['messages'][number], n: number): ConditionCells | null {
    if (!condition) return null
    const maker = new CellMaker()
    const cells = { when: maker.make(condition.when, 'boolean'), until: condition.until && maker.make(condition.until, 'boolean') }
    for (const h of new Set([...cells.when.handles, ...(cells.until?.handles ?? [])])) listed(this.conditionsOf, h, n)
    this.toLook.add(n)
    return cells
  }

  private gates(gates: readonly PlanGate[], n: number, maker: CellMaker | undefined): Gate[] {
    return gates.map((is) => {
      const cell = is.kind === 'condition' && maker ? maker.make(is.when, 'boolean') : null
      for (const h of cell?.handles ?? []) listed(this.gatesOf, h, n)
      return { is, cell }
    })
  }

  /** Whether something moves by itself. */
  get timed(): boolean {
    return this.moving.length > 0
  }

  /** Notes that what moves by itself may have moved. */
  touchTimed(): void {
    for (const i of this.moving) this.touched.add(i)
  }

  /** Whether something in it reads a tag. */
  reads(handle: number): boolean {
    return this.cellsOf.has(handle) || this.conditionsOf.has(handle) || this.gatesOf.has(handle)
  }

  /** Notes that a tag has a new value or status. */
  touch(handle: number): void {
    const cells = this.cellsOf.get(handle)
    if (cells) for (const i of cells) this.touched.add(i)
    const conditions = this.conditionsOf.get(handle)
    if (conditions) for (const n of conditions) this.toLook.add(n)
    const gates = this.gatesOf.get(handle)
    if (gates) for (const n of gates) this.mayPass.add(n)
  }

  /** Whether each value that comes in is an event. */
  get hears(): boolean {
    return this.reportsOf.size > 0
  }

  /** Notes that a value of a tag came in, whether or not it is another. */
  came(handle: number): void {
    const messages = this.reportsOf.get(handle)
    if (messages) for (const n of messages) this.reported.add(n)
  }

  /** Messages of which a value came in, and that have their first values: each once. */
  takeReported(values: ValueArrays, now: number): number[] {
    if (this.reported.size === 0) return []
    this.settle(values, now)
    const ready = [...this.reported].filter((n) => this.complete(n, values, now))
    for (const n of ready) this.reported.delete(n)
    return ready
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
  said(n: number): void {
    for (const i of this.messages[n]!.moving) {
      const cell = this.cells[i]!
      this.saidValue[i] = cell.value
      this.saidQuality[i] = qualityOf(cell.status)
    }
  }

  /** Whether a message has something to say that was not said. */
  hasNews(n: number, values: ValueArrays, now: number): boolean {
    this.settle(values, now)
    return this.isNews(n)
  }

  private isNews(n: number): boolean {
    return this.messages[n]!.moving.some((i) => this.differs(i))
  }

  /** Whether a message has its first values. */
  hasValues(n: number, values: ValueArrays, now: number): boolean {
    this.settle(values, now)
    return this.complete(n, values, now)
  }

  private differs(i: number): boolean {
    const cell = this.cells[i]!
    const said = this.saidValue[i]
    const width = this.widths[i]!
    const far = width >= 0 ? width : typeof said === 'number' || typeof said === 'bigint' ? -width * Math.abs(Number(said)) : 0
    return said === undefined || isChange(said, cell.value, far) || this.saidQuality[i] !== qualityOf(cell.status)
  }

  /** Reads what was touched, each cell once however many of its inputs changed, and notes which messages have news. */
  settle(values: ValueArrays, now: number): void {
    for (const i of this.touched) {
      this.cells[i]!.read(values, now)
      if (this.differs(i)) for (const n of this.owners[i]!) this.dirty.add(n)
    }
    this.touched.clear()
    for (const n of this.mayPass) {
      for (const { cell } of this.messages[n]!.gates) cell?.read(values, now)
      // What was held back is news as soon as it may pass.
      if (this.messages[n]!.speaking.some((i) => this.differs(i))) this.dirty.add(n)
    }
    this.mayPass.clear()
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
    this.touchTimed()
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

  /** Reads what reads nothing, before a message is written. */
  refresh(n: number, now: number): void {
    for (const cell of this.messages[n]!.unread) cell.read(nothing, now)
  }

  /** Which of the things that a message has to pass holds it back, as last settled, by the place of its step; null: it passes. `whole`: repeats are meant. */
  heldBy(n: number, whole: boolean): number | null {
    for (const { is, cell } of this.messages[n]!.gates) {
      if (is.kind === 'repeats') {
        if (!whole && !this.isNews(n)) return is.step
        continue
      }
      const answer = qualityOf(cell!.status) === 'bad' ? null : cell!.value
      const passes = answer === null ? is.unknown === 'pass' : (answer === true) === is.wanted
      if (!passes) return is.step
    }
    return null
  }

  partsOf(n: number): readonly Part[] {
    return this.messages[n]!.parts
  }

  steeringOf(n: number): readonly Cell[] {
    return this.messages[n]!.steering
  }

  /** Notes in the parts of a message what differs from what was said last; gives whether anything does. */
  mark(n: number): boolean {
    const { parts, places } = this.messages[n]!
    let any = false
    for (let p = 0; p < parts.length; p++) {
      const { changed } = parts[p]!
      const behind = places[p]!
      for (let i = 0; i < behind.length; i++) {
        changed[i] = behind[i]! >= 0 && this.differs(behind[i]!) ? 1 : 0
        any ||= changed[i] === 1
      }
    }
    return any
  }
}
