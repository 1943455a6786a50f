import type { Budget } from '~/contract/budget'
import type { HubSettings } from '~/contract/destinations/hub'
import type { MqttSettings } from '~/contract/destinations/mqtt'
import { fail } from '~/contract/failure'
import type { Preflight } from '~/contract/preflight'
import type { HeldValues, Plan, Preview, PublicationDraft } from '~/contract/publication'
import type { Replay } from '~/contract/replay'
import type { PlanRows } from '~/contract/rows'
import { withOwnSteps } from '~/core/publication/clauses'
import { type CompileOptions, compile, publisherOf } from '~/core/publication/compile'
import { asyncApi, contractOf, type NamedServer } from '~/core/publication/contract'
import { type Joined, joining } from '~/core/publication/joining'
import type { World } from '~/core/publication/placed'
import { withPlaces } from '~/core/publication/placed-rows'
import { clockFindings, type NamedClock } from '~/core/publication/preflight/clock-findings'
import { contractFindings } from '~/core/publication/preflight/contract-findings'
import { loopFindings, type ReadTopics } from '~/core/publication/preflight/loops'
import { qualityFindings } from '~/core/publication/preflight/quality-findings'
import { type Limits, loadFindings, reachOf } from '~/core/publication/preflight/reach'
import { unusedFindings } from '~/core/publication/preflight/unused-findings'
import { asPrescribed } from '~/core/publication/prescribed'
import { allTags } from '~/core/publication/steps/behind'
import { versionDifferences } from '~/core/publication/version-differences'
import type { LookupAnswer } from '~/core/rows/looked-up'
import type { HostFacts } from '~/core/shape/shape'
import type { Scalar } from '~/core/value/deadband'
import type { Db, Noun } from '~/store/database'
import { freeze } from '~/store/freeze'
import { plansBetween } from '~/store/journal'
import { getPublication, listDeliveries, planOf, rivalPlans } from '~/store/publication'
import { listSources } from '~/store/source'
import { usedTags } from '~/store/tag'
import { type CompareQuestion, Comparing } from '../compare/comparing'
import { LiveTable } from '../live/table'
import { JournalDesk, type JournalQuestion, ofJournal } from '../outbox/journal-desk'
import { deflatePacking } from '../outbox/packing'
import { scriptsHere } from '../scripts/scripts'
import { ModelCache } from '../world'
import { exampleOf, loadOf, previewOf } from './preview'
import { demandTags, type RowNow, rowTable } from './preview-rows'
import { replay } from './replay'
import { type BudgetQuestion, type SentQuestion, Weighing } from './weighing'

/** What is asked about a draft. */
export interface DraftQuestion {
  draft: PublicationDraft
  host: HostFacts
  /** The publication whose draft it is, and which version of it is live. */
  publicationId?: string
  liveVersion?: number
}

export interface PreviewQuestion extends DraftQuestion {
  kind: 'preview'
  /** Whose message is shown; else the first. */
  equipmentId?: string
  /** Messages a second of each kind, of the live version. */
  rates?: readonly number[]
  destination?: CompileOptions['destination']
  /** Values to be used in the place of those of this moment. */
  held?: HeldValues
}

/** The same, and all that is to be known before it goes live. */
export interface PreflightQuestion extends Omit<PreviewQuestion, 'kind'> {
  kind: 'preflight'
  /** Why its destination is not reached at this moment; absent: it is. */
  away?: string
  /** Clocks that are not in step with ours. */
  clocks: readonly NamedClock[]
}

export interface ContractQuestion extends DraftQuestion {
  kind: 'contract'
  as: 'contract' | 'asyncapi'
  server: NamedServer
}

/** What was sent in a span of time, sent once more through a draft. */
export interface ReplayQuestion {
  kind: 'replay'
  draft: PublicationDraft
  host: HostFacts
  publicationId: string
  /** Epoch ms. */
  from: number
  to: number
}

/** Who would join a publication that is live, and who would leave it, if it went live as it is saved. */
export interface JoiningQuestion {
  kind: 'joining'
  publicationId: string
}
/** A publication as it is saved, frozen. */
export interface FrozenQuestion {
  kind: 'frozen'
  publicationId: string
}
export interface Frozen {
  /** Of what was saved. */
  version: number
  body: Omit<Plan, 'number' | 'delivery'>
}

export type Question =
  | CompareQuestion
  | BudgetQuestion
  | SentQuestion
  | JoiningQuestion
  | FrozenQuestion
  | ReplayQuestion
  | PreviewQuestion
  | PreflightQuestion
  | ContractQuestion
  | JournalQuestion

/** Present values of tags, in the order in which they were asked for. */
export interface Values {
  value: Scalar[]
  status: Uint32Array
  time: Float64Array
}

/** What a destination says that it takes. */
function limitsOf(to: NonNullable<CompileOptions['destination']>): Limits {
  if (to.kind !== 'hub') return { perSecond: null, perDay: null }
  const { perSecond, perDay } = (to.settings as HubSettings).profile
  return { perSecond, perDay }
}

/** What the engine lends whoever answers. */
export interface Lending {
  /** Present values of some tags, by handle. */
  values(handles: readonly number[]): Promise<Values>
  /** The first of the rows of a source. */
  row(asked: PlanRows): Promise<RowNow>
  /** What sources answered last. */
  answers(sourceIds: readonly string[]): Promise<LookupAnswer[]>
}

/** Present values out of a table. */
export function valuesOf(table: LiveTable, handles: readonly number[]): Values {
  const there = (h: number) => h < table.status.length
  return {
    value: handles.map((h) => table.value[h] ?? null),
    status: Uint32Array.from(handles, (h) => (there(h) ? table.status[h]! : 0)),
    time: Float64Array.from(handles, (h) => (there(h) ? table.time[h]! : 0)),
  }
}

/**
 * Answers questions about drafts, and about what has been, with a model of its own, read from the database when something in it has changed: the engine
 * lends it values only. So it may take as long as it likes, in a thread of its own.
 */
export class PreviewDesk {
  private readonly model = new ModelCache()
  private readonly journal: JournalDesk
  private readonly weighing: Weighing
  private readonly comparing: Comparing
  private stale = { tags: true, equipment: true }
  private queue: Promise<unknown> = Promise.resolve()

  constructor(
    private readonly db: Db,
    private readonly lent: Lending,
  ) {
    this.journal = new JournalDesk(db, deflatePacking)
    this.weighing = new Weighing(db, this.journal)
    this.comparing = new Comparing(db, this.journal)
  }

  /** Something was changed: what is kept of it is read anew before the next answer. */
  changed(nouns: Iterable<Noun>): void {
    for (const noun of nouns) {
      if (noun === 'tag' || noun === 'source') this.stale.tags = true
      if (noun === 'equipment' || noun === 'tag') this.stale.equipment = true
    }
  }

  /** One after the other: each with the model as it is when its turn comes. */
  answer(asked: Question): Promise<object> {
    const q = 'draft' in asked ? { ...asked, draft: withOwnSteps(asked.draft) } : asked
    const turn = this.queue.then(async () => {
      if (ofJournal(q)) return this.journal.answer(q)
      await this.refresh()
      if (q.kind === 'joining') return this.joining(q)
      if (q.kind === 'frozen') return this.frozen(q)
      if (q.kind === 'contract') return this.contract(q)
      if (q.kind === 'replay') return this.replayed(q)
      if (q.kind === 'budget') return this.budget(q)
      if (q.kind === 'sent') return this.weighing.sent(q)
      if (q.kind === 'compare') return this.comparing.compare(q, this.model.tags)
      return q.kind === 'preview' ? this.preview(q) : this.preflight(q)
    })
    this.queue = turn.catch(() => undefined)
    return turn
  }

  private async refresh(): Promise<void> {
    const stale = this.stale
    this.stale = { tags: false, equipment: false }
    try {
      if (stale.tags) await this.model.loadTags(this.db)
      if (stale.equipment) await this.model.loadEquipment(this.db)
    } catch (e) {
      this.stale = { tags: true, equipment: true }
      throw e
    }
  }

  private async joining({ publicationId }: JoiningQuestion): Promise<Joined> {
    const p = await getPublication(this.db, publicationId)
    const live = await this.live(publicationId, p.liveVersion ?? undefined)
    return live ? joining(live, compile(p, this.worldOf(p)).body) : { joined: [], left: [], others: [] }
  }

  private async frozen({ publicationId }: FrozenQuestion): Promise<Frozen> {
    const p = await getPublication(this.db, publicationId)
    return { version: p.version, body: await freeze(p, this.db) }
  }

  private async preview(q: PreviewQuestion): Promise<Preview> {
    const { draft, publicationId, liveVersion } = q
    const world = this.worldOf(draft)
    const { body, source } = compile(draft, world, publicationId === undefined ? {} : { publicationId })
    const others = (await rivalPlans(this.db, draft, body.reads, publisherOf(draft.shape))).filter((o) => o.publicationId !== publicationId)
    const live = await this.live(publicationId, liveVersion)
    const tags = new Set([...allTags(body), ...allTags({ equipment: source })])
    const held = q.held?.filter(([h]) => tags.has(h))
    const rows = body.feed && (await this.lent.row(body.feed))
    return previewOf(draft, world, await this.table(tags, body.feed, rows), {
      ...(rows && { rows }),
      answers: await this.answers(body),
      host: q.host,
      plans: live ? [...others, live] : others,
      ...(q.rates && { rates: q.rates }),
      ...(held && { held }),
      ...(q.equipmentId !== undefined && { equipmentId: q.equipmentId }),
      ...(publicationId !== undefined && { publicationId }),
      ...(q.destination && { destination: q.destination }),
    })
  }

  private async preflight(q: PreflightQuestion): Promise<Omit<Preflight, 'id' | 'rootId' | 'name' | 'version' | 'acceptedBefore'>> {
    const { draft, publicationId, liveVersion, destination } = q
    const { findings, message } = await this.preview({ ...q, kind: 'preview' })
    const { body, source } = compile(draft, this.worldOf(draft))
    const live = await this.live(publicationId, liveVersion)
    const next: Plan = { ...draft, ...body, publicationId: publicationId ?? 'draft', number: (liveVersion ?? 0) + 1, delivery: 0 }
    const rows = body.feed && (await this.lent.row(body.feed))
    const table = await this.table(allTags(body), body.feed, rows)
    const stopped = findings.some((f) => f.severity === 'stops')
    const load =
      (stopped || rows ? null : await this.weighing.load(next, q.host, await this.answers(body))) ??
      loadOf(draft, rows?.count ?? body.messages.length, message?.bytes ?? null, live ? q.rates : undefined)
    const reach = reachOf(load, destination?.settings.outboxMb ?? 0)
    if (q.away !== undefined && destination)
      findings.push({
        severity: 'warns',
        section: 'through',
        message: `${destination.name} is not reached now: ${q.away}`,
        hint: 'Messages wait in its outbox until it is',
        mend: { label: 'Open destinations', href: '/destinations' },
      })
    if (live && (live.ahead ?? false) !== (next.ahead ?? false) && live.destinationId === next.destinationId)
      findings.push({
        severity: 'warns',
        section: 'safely',
        message: `What waits of version ${live.number} at the go-live goes out by the connection that it waits for, perhaps after newer messages`,
        hint: 'Go live while nothing waits, or live with it',
      })
    findings.push(
      ...clockFindings(this.concerned(q, allTags(body))),
      ...qualityFindings(body, (h) => table.status[h]),
      ...(stopped || rows ? [] : unusedFindings(source, body, await this.around())),
      ...(live && !stopped ? contractFindings(live, next) : []),
      ...(destination ? loadFindings(reach, limitsOf(destination), destination.name) : []),
      ...(destination?.kind === 'mqtt'
        ? loopFindings(
            body.messages.map((m) => m.place),
            destination.settings as MqttSettings,
            await this.readTopics(),
          )
        : []),
    )
    return { findings, differences: live && versionDifferences(live, next), reach }
  }

  /** Clocks of where its values come from and of where it goes. */
  private concerned({ clocks, draft }: PreflightQuestion, handles: readonly number[]): NamedClock[] {
    if (clocks.length === 0) return []
    const read = new Set(handles)
    const sources = new Set([...this.model.tags.values()].filter((t) => read.has(t.handle)).map((t) => t.sourceId))
    return clocks.filter(({ kind, id }) => (kind === 'source' ? sources.has(id!) : id === draft.destinationId))
  }

  /** All tags, and which of them anything uses. */
  private async around() {
    const [used, sources] = await Promise.all([usedTags(this.db), listSources(this.db)])
    const names = new Map(sources.map((s) => [s.id, s.name]))
    return { tags: this.model.tags.values(), used: new Set(used), sourceName: (id: string) => names.get(id) ?? 'a source' }
  }

  /** Which topics sources read from brokers. */
  private async readTopics(): Promise<ReadTopics[]> {
    const all = await listSources(this.db)
    const tags = [...this.model.tags.values()]
    return all.flatMap((s) =>
      s.kind === 'mqtt'
        ? [{ source: s.name, host: s.settings.host, port: s.settings.port, addresses: tags.filter((t) => t.sourceId === s.id).map((t) => t.address) }]
        : [],
    )
  }

  private async replayed({ draft, host, publicationId, from, to }: ReplayQuestion): Promise<Replay> {
    demandTags(draft, 'replay')
    const { body, findings } = compile(draft, this.model, { publicationId })
    const stop = findings.find((f) => f.severity === 'stops')
    if (stop) throw fail(422, 'replay.stops', `The draft cannot be sent: ${stop.message}`, stop.hint, 'publication')
    const plans = await plansBetween(this.db, publicationId, from, to)
    const last = plans.at(-1)
    const delivery = (await listDeliveries(this.db)).find((d) => d.number === last?.plan.delivery)
    if (!last || !delivery)
      throw fail(409, 'replay.nothing', 'It sent nothing in that time', 'Choose a span in which a version of it was live', 'publication')
    const prescribed = asPrescribed(draft)
    const next: Plan = { ...prescribed, ...body, publicationId, number: last.plan.number + 1, delivery: last.plan.delivery }
    return replay({
      ...{ next, host, from, to, scripts: scriptsHere(), answers: await this.answers(body) },
      sent: this.journal.produced(delivery.lane, delivery.number, from, to),
      planAt: (at) => plans.findLast((p) => p.at <= at)?.plan ?? null,
      table: await this.table(allTags(body)),
    })
  }

  private async budget({ draft, ...q }: BudgetQuestion): Promise<Budget> {
    demandTags(draft, 'budget')
    const { body, findings } = compile(draft, this.model, q.destination ? { destination: q.destination } : {})
    const stop = findings.find((f) => f.severity === 'stops')
    if (stop) throw fail(422, 'budget.stops', `The draft cannot be sent: ${stop.message}`, stop.hint, 'publication')
    const plan: Plan = { ...asPrescribed(draft), ...body, publicationId: 'draft', number: 1, delivery: 0 }
    return this.weighing.budget(plan, q, await this.answers(body))
  }

  /** What receivers are given: of the live version, or of the draft where nothing is live. */
  private async contract({ draft, publicationId = 'draft', liveVersion, as, server, host }: ContractQuestion): Promise<object> {
    const plan = (await this.live(publicationId, liveVersion)) ?? { ...draft, ...compile(draft, this.worldOf(draft)).body, publicationId, number: 0 }
    const rows = plan.feed && (await this.lent.row(plan.feed))
    const example = exampleOf(plan, await this.table(allTags(plan), plan.feed, rows), host, await this.answers(plan))
    return as === 'contract' ? contractOf(plan, example) : asyncApi(plan, server, example)
  }

  private async live(publicationId: string | undefined, version: number | undefined): Promise<Plan | null> {
    return publicationId !== undefined && version !== undefined ? planOf(this.db, publicationId, version) : null
  }

  /** What the sources answered last in whose rows something is looked up. */
  private async answers({ lookups = [] }: Pick<Plan, 'lookups'>): Promise<LookupAnswer[]> {
    return lookups.length === 0 ? [] : this.lent.answers(lookups.map((l) => l.sourceId))
  }

  /** The model that a draft is resolved against: rows that were never saved have their places in it too. */
  private worldOf({ rows }: PublicationDraft): World {
    return rows ? withPlaces(this.model, rows) : this.model
  }

  /** A table with the present values of these tags, by handle; where rows go out, with the first of them. */
  private async table(tags: Iterable<number>, feed?: PlanRows, rows?: RowNow): Promise<LiveTable> {
    if (feed) return rowTable(feed, rows?.row ?? null, rows?.at ?? 0)
    const handles = [...tags]
    const { value, status, time } = await this.lent.values(handles)
    const table = new LiveTable()
    table.apply({ handles, values: value, statuses: [...status], times: [...time] })
    return table
  }
}
