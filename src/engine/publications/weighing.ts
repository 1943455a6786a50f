import type { Budget, BudgetQuery, BudgetSum } from '~/contract/budget'
import { fail } from '~/contract/failure'
import type { Plan } from '~/contract/publication'
import { kindOf, sentAs } from '~/core/address/kinds'
import { messageId } from '~/core/delivery/envelope'
import type { CompileOptions } from '~/core/publication/compile'
import type { Load } from '~/core/publication/preflight/reach'
import { allTags } from '~/core/publication/steps/behind'
import type { LookupAnswer } from '~/core/rows/looked-up'
import type { HostFacts } from '~/core/shape/shape'
import type { Db } from '~/store/database'
import { listDeliveries } from '~/store/publication'
import type { JournalDesk } from '../outbox/journal-desk'
import { deflatePacking } from '../outbox/packing'
import { playback } from '../recording/playback'
import { scriptsHere } from '../scripts/scripts'
import { budgetOf } from './budget'
import { reckon } from './reckon'

/** What a draft would have sent of what was recorded, and what of it would be lost. */
export interface BudgetQuestion extends BudgetQuery {
  kind: 'budget'
  host: HostFacts
  /** How its ids begin. */
  installation: string
  destination?: CompileOptions['destination']
}

/** What a publication really sent in a span of time. */
export interface SentQuestion {
  kind: 'sent'
  publicationId: string
  installation: string
  from: number
  to: number
  destination?: CompileOptions['destination']
}

/** What its tags did in so long tells what a draft would send, unless less is known of them, ms. */
const LATE_MS = 10 * 60_000
const RECORDED_LEAST_MS = 60_000
/** So long is reckoned, ms. */
const RECKON_MS = 2000
const BUDGET_MS = 12_000
/** Less than that says nothing, ms. */
const BUDGET_LEAST_MS = 1000
/** A delivery whose number is as long as most. */
const USUAL_DELIVERY = 10

/** Reckons what goes to a destination on the wire; null: there is no model of it. */
const meterOf = ({ kind, settings }: NonNullable<CompileOptions['destination']>) => kindOf({ kind }).meter?.(settings as never) ?? null

/** Reckons what publications cost, from what was recorded of their tags and what went through the journal. */
export class Weighing {
  constructor(
    private readonly db: Db,
    private readonly journal: JournalDesk,
  ) {}

  /** What would be sent by what its tags did of late; null: that does not tell. */
  async load(plan: Plan, host: HostFacts, answers: readonly LookupAnswer[]): Promise<Load | null> {
    const { kind } = plan.trigger
    const beats = kind === 'every' && (plan.steps ?? []).length === 0
    // What comes by the clock or by hand need not come in so short a time.
    if (beats || kind === 'schedule' || kind === 'hand') return null
    const to = Date.now()
    const recorded = await playback(this.db, deflatePacking, new Set(allTags(plan)), to - LATE_MS, to)
    if (!recorded || recorded.to - recorded.from < RECORDED_LEAST_MS) return null
    const reckoned = await reckon({ plan, playback: recorded, to: recorded.to, scripts: scriptsHere(), host, answers, workMs: RECKON_MS })
    const seconds = reckoned ? (reckoned.to - reckoned.from) / 1000 : 0
    if (!reckoned || seconds < 1) return null
    const { messages, octets } = reckoned
    return { perSecond: messages / seconds, octets: messages === 0 ? null : Math.round(octets / messages), recordedS: seconds }
  }

  /** What a draft, compiled, would have sent, and what of it would be lost. Throws where that cannot be said. */
  async budget(
    plan: Plan,
    { host, installation, destination, from, to }: Omit<BudgetQuestion, 'draft'>,
    answers: readonly LookupAnswer[],
  ): Promise<Budget> {
    const recorded = await playback(this.db, deflatePacking, new Set(allTags(plan)), from, to)
    if (!recorded || recorded.to - recorded.from < BUDGET_LEAST_MS)
      throw fail(
        409,
        'budget.nothing',
        'Nothing of that time is recorded',
        'Wait a minute if it has only begun, or take another span; see EMBRIK_RECORDING_MB',
        'publication',
      )
    const budget = await budgetOf({
      ...{ plan, playback: recorded, to: recorded.to, scripts: scriptsHere(), host, answers, workMs: BUDGET_MS },
      meter: destination ? meterOf(destination) : null,
      assurance: sentAs(plan.address).assurance,
      idOf: (n) => messageId(installation, USUAL_DELIVERY, n + 1),
    })
    if (!budget)
      throw fail(
        422,
        'budget.sparkplug',
        'Messages of an edge node are not reckoned',
        'Its births belong to a connection: look at the wall',
        'publication',
      )
    return budget
  }

  /** What a publication really sent, as far as the journal has it. */
  async sent({ publicationId, installation, destination, from, to }: SentQuestion): Promise<BudgetSum> {
    const deliveries = (await listDeliveries(this.db)).filter((d) => d.publicationId === publicationId)
    const meter = destination ? meterOf(destination) : null
    let messages = 0
    let octets = 0
    for (const d of deliveries)
      for await (const e of this.journal.produced(d.lane, d.number, from, to)) {
        const payload = typeof e.payload === 'string' ? Buffer.from(e.payload) : e.payload
        messages++
        octets += payload.length
        meter?.add({
          at: e.producedAt,
          place: e.topic,
          payload,
          properties: e.properties,
          assurance: e.assurance,
          id: messageId(installation, d.number, e.seq),
        })
      }
    return { messages, octets, wire: meter?.wire() ?? null }
  }
}
