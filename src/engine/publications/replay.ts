import { fail } from '~/contract/failure'
import type { Plan } from '~/contract/publication'
import { EDITED_MOST, REPLAY_MOST, type Replay } from '~/contract/replay'
import type { Envelope } from '~/core/delivery/envelope'
import { unpackProperties } from '~/core/delivery/properties'
import { behindValue } from '~/core/publication/replay/behind-value'
import { compareReplay, type ReplayMessage } from '~/core/publication/replay/compare'
import { Runner } from '~/core/publication/runner'
import type { Row } from '~/core/publication/steps/row'
import { compressionOf, decoderOf, scopeOf, wholeEvery } from '~/core/shape/registry'
import type { Decoder, HostFacts, Reading } from '~/core/shape/shape'
import { type Quality, Status } from '~/core/value/quality'
import { HeldClock } from '../clock/held-clock'
import type { LiveTable } from '../live/table'
import type { Scripts } from '../scripts/scripts'
import { octets, unpack } from './compress'
import { Due } from './due'
import { Flow } from './flow'
import { packer } from './message'

/** So long it is worked on one answer, ms. */
const WORK_MS = 12_000

export interface ReplayOptions {
  /** What was sent, the oldest first. */
  sent: AsyncIterable<Envelope>
  /** What was live when a message was produced; null: it is not known any more. */
  planAt(at: number): Plan | null
  /** What would be sent. */
  next: Plan
  /** Present values: they stand for what was not sent then. */
  table: LiveTable
  scripts: Scripts
  host: HostFacts
  from: number
  to: number
}

const statusOf: Record<Quality, number> = { good: Status.good, uncertain: Status.lastUsable, bad: Status.noData }

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
class PlanReader {
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

/** Values of tags that stood in one message. */
interface Values {
  handles: number[]
  values: (Reading['value'] | null)[]
  statuses: number[]
  times: number[]
}

/** What the tags held, by what was sent of them. */
function valuesIn(plan: Plan, n: number, readings: readonly Reading[], at: number, unknown: Set<string>): Values {
  const out: Values = { handles: [], values: [], statuses: [], times: [] }
  const own = plan.messages[n]!.equipment
  for (const r of readings) {
    const e = r.equipment === null ? own[0] : own.find((i) => plan.equipment[i]!.name === r.equipment)
    const first = e === undefined ? undefined : (plan.stages?.[0]?.equipment[e] ?? plan.equipment[e]!.members)
    const member = first?.find((m) => m.key === r.member)
    if (!member || member.fill.kind === 'constant') continue
    const behind = behindValue(member.fill, r.value)
    if (!behind) {
      unknown.add(member.key)
      continue
    }
    out.handles.push(behind.handle)
    out.values.push(behind.value)
    out.statuses.push(statusOf[r.quality])
    out.times.push(r.time ?? at)
  }
  return out
}

/** The edited publication, run over a clock that goes by when the messages were produced. */
class Edited {
  readonly messages: ReplayMessage[] = []
  readonly problems = new Set<string>()
  readonly clock: HeldClock
  readonly runner: Runner
  private readonly due: Due
  private readonly flow: Flow | null
  private readonly pack: ReturnType<typeof packer>
  private readonly reader: PlanReader
  private heard = false
  /** It made more than can be held against anything, by then (epoch ms); null: it did not. */
  fullAt: number | null = null

  constructor(private readonly o: Pick<ReplayOptions, 'next' | 'table' | 'scripts' | 'host' | 'from'>) {
    const { next: plan, table, host, scripts } = o
    const clock = (this.clock = new HeldClock(o.from))
    this.reader = new PlanReader(plan)
    this.runner = new Runner(plan, host)
    this.pack = packer(plan)
    for (const h of this.runner.handles) table.ensure(h)
    const guarded = (work: () => void) => this.guarded(work)
    this.due = new Due({
      ...{ plan, runner: this.runner, values: table, clock, guarded },
      say: (messages, whole) => {
        if (!this.heard) return
        if (this.flow) this.flow.offer(messages, whole)
        else this.publish(messages, whole)
      },
    })
    this.flow =
      (plan.stages ?? []).length === 0
        ? null
        : new Flow({
            ...{ plan, runner: this.runner, clock, scripts, guarded },
            through: (rows) => this.publish(rows, false),
            failed: (step, _n, words) => words !== null && this.problems.add(`step ${step + 1}: ${words}`),
          })
  }

  private guarded(work: () => void): void {
    try {
      work()
    } catch (e) {
      this.problems.add(e instanceof Error ? e.message : String(e))
    }
  }

  /** What there is when the span begins is not sent: what of it was sent then is among what follows. */
  async begin(): Promise<void> {
    for (const h of this.runner.handles) this.runner.touch(h)
    this.guarded(() => this.due.begin())
    await this.quiet()
    this.heard = true
  }

  async changed({ handles, values, statuses, times }: Values, at: number): Promise<void> {
    await this.passTo(at)
    this.o.table.apply({ handles, values, statuses, times })
    for (const h of handles) {
      this.runner.touch(h)
      this.runner.came(h)
    }
    this.guarded(() => this.due.changed())
    await this.quiet()
  }

  async passTo(at: number): Promise<void> {
    this.clock.pass(Math.max(0, at - this.clock.wall()))
    await this.quiet()
  }

  private async quiet(): Promise<void> {
    await this.flow?.quiet()
  }

  private publish(all: readonly (number | Row)[], whole: boolean): void {
    const { runner, clock, pack, reader } = this
    const now = clock.wall()
    if (this.messages.length >= EDITED_MOST) this.fullAt ??= now
    if (this.fullAt !== null) return
    for (const one of all) {
      const n = typeof one === 'number' ? one : one.n
      if (typeof one !== 'number') runner.give(this.o.next.stages!.length - 1, one, now)
      const message = runner.encode(n, now, this.messages.length + 1, typeof one === 'number' ? whole : one.whole)
      if (!message) continue
      this.due.spoke(n, clock.mono())
      const payload = octets(pack(message).payload)
      const readings = reader.readings(n, payload, message.headers) ?? []
      this.messages.push({ whose: reader.whose[n]!, topic: message.place, at: now, octets: payload.length, readings })
    }
  }

  async end(at: number): Promise<void> {
    await this.passTo(at)
    this.due.stop()
    await this.flow?.drain()
  }
}

/**
 * Sends what was sent in a span of time once more through another publication, in its own time, and holds the two against each other.
 * What a tag was in between two messages nobody knows any more: only what was sent of it.
 */
export async function replay(o: ReplayOptions): Promise<Replay> {
  if (o.next.shape.kind === 'sparkplug-b')
    throw fail(
      422,
      'replay.sparkplug',
      'Messages of an edge node cannot be replayed',
      'Its births belong to a connection: look at the preview',
      'publication',
    )
  const edited = new Edited(o)
  const readers = new Map<Plan, PlanReader>()
  const sent: ReplayMessage[] = []
  const unknown = new Set<string>()
  const told = new Set<number>()
  let unread = 0
  let to = o.to
  let cut = false
  const end = performance.now() + WORK_MS
  await edited.begin()
  let batch: { at: number; values: Values } | null = null
  const give = async () => {
    if (batch && batch.values.handles.length > 0) await edited.changed(batch.values, batch.at)
    batch = null
  }
  for await (const e of o.sent) {
    if (sent.length >= REPLAY_MOST || performance.now() > end || edited.fullAt !== null) {
      cut = true
      to = e.producedAt
      break
    }
    const plan = o.planAt(e.producedAt)
    const reader = plan && (readers.get(plan) ?? new PlanReader(plan))
    if (plan && reader) readers.set(plan, reader)
    const n = reader?.messageAt(e.topic)
    const payload = octets(e.payload)
    const readings = reader && n !== undefined ? reader.readings(n, payload, unpackProperties(e.properties).headers) : null
    if (!plan || !reader || n === undefined || !readings) {
      unread++
      continue
    }
    sent.push({ whose: reader.whose[n]!, topic: e.topic, at: e.producedAt, octets: payload.length, readings })
    // What was produced at once came in at once.
    if (batch && (batch as { at: number }).at !== e.producedAt) await give()
    batch ??= { at: e.producedAt, values: { handles: [], values: [], statuses: [], times: [] } }
    const { handles, values, statuses, times } = valuesIn(plan, n, readings, e.producedAt, unknown)
    for (const h of handles) told.add(h)
    batch.values.handles.push(...handles)
    batch.values.values.push(...values)
    batch.values.statuses.push(...statuses)
    batch.values.times.push(...times)
  }
  await give()
  await edited.end(to)
  if (edited.fullAt !== null) {
    cut = true
    to = Math.min(to, edited.fullAt)
  }
  const still = edited.runner.handles.filter((h) => !told.has(h)).length
  return {
    from: o.from,
    to,
    cut,
    ...compareReplay(sent, edited.messages),
    notes: notesOf({ unread, unknown, still, problems: edited.problems, plans: readers.keys(), partial: wholeEvery(o.next.shape) !== 1 }),
  }
}

function notesOf(o: {
  unread: number
  unknown: ReadonlySet<string>
  still: number
  problems: ReadonlySet<string>
  plans: Iterable<Plan>
  partial: boolean
}): string[] {
  const some = [...o.unknown].slice(0, 5).join(', ')
  const staged = [...o.plans].some((p) => p.stages)
  return [
    'Tags are known as they were sent: what the live version did not send of them is not replayed.',
    ...(o.still > 0 ? [`${o.still} tags were not sent in that time: their present values stand for them.`] : []),
    ...(o.unknown.size > 0 ? [`What fills ${some} cannot be told from what was sent: it is made anew from the tags that are known.`] : []),
    ...(o.partial ? ['The first message of each equipment is whole here, whatever had changed by then.'] : []),
    ...(staged ? ['The live version gathers or scripts messages: their values are taken as they were after that.'] : []),
    ...(o.unread > 0 ? [`${o.unread} messages could not be read again: they are not among those compared.`] : []),
    ...[...o.problems].slice(0, 3).map((p) => `The edited publication fails: ${p}`),
  ]
}
