import { fail } from '~/contract/failure'
import type { Plan } from '~/contract/publication'
import { EDITED_MOST, REPLAY_MOST, type Replay } from '~/contract/replay'
import type { Envelope } from '~/core/delivery/envelope'
import { unpackProperties } from '~/core/delivery/properties'
import { behindValue } from '~/core/publication/replay/behind-value'
import { compareReplay, type ReplayMessage } from '~/core/publication/replay/compare'
import type { LookupAnswer } from '~/core/rows/looked-up'
import { wholeEvery } from '~/core/shape/registry'
import type { HostFacts, Reading } from '~/core/shape/shape'
import { type Quality, Status } from '~/core/value/quality'
import type { LiveTable } from '../live/table'
import type { Scripts } from '../scripts/scripts'
import { octets } from './compress'
import { HeldRun, type Made } from './held-run'
import { PlanReader } from './plan-reader'

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
  answers?: readonly LookupAnswer[]
  from: number
  to: number
}

const statusOf: Record<Quality, number> = { good: Status.good, uncertain: Status.lastUsable, bad: Status.noData }

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
  readonly run: HeldRun
  private readonly reader: PlanReader
  /** It made more than can be held against anything, by then (epoch ms); null: it did not. */
  fullAt: number | null = null

  constructor(o: Pick<ReplayOptions, 'next' | 'table' | 'scripts' | 'host' | 'from'>) {
    this.reader = new PlanReader(o.next)
    this.run = new HeldRun({ ...o, plan: o.next, made: (m) => this.made(m) })
  }

  private made({ n, at, place, payload, headers }: Made): void {
    if (this.messages.length >= EDITED_MOST) this.fullAt ??= at
    if (this.fullAt !== null) return
    const readings = this.reader.readings(n, payload, headers) ?? []
    this.messages.push({ whose: this.reader.whose[n]!, topic: place, at, octets: payload.length, readings })
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
  await edited.run.begin()
  let batch: { at: number; values: Values } | null = null
  const give = async () => {
    if (batch && batch.values.handles.length > 0) await edited.run.changed({ ...batch.values, at: batch.at, came: true })
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
  await edited.run.end(to)
  if (edited.fullAt !== null) {
    cut = true
    to = Math.min(to, edited.fullAt)
  }
  const still = edited.run.handles.filter((h) => !told.has(h)).length
  return {
    from: o.from,
    to,
    cut,
    ...compareReplay(sent, edited.messages),
    notes: notesOf({ unread, unknown, still, problems: edited.run.problems, plans: readers.keys(), partial: wholeEvery(o.next.shape) !== 1 }),
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
