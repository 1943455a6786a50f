import type { HeldValues, Plan, Preview, PublicationDraft } from '~/contract/publication'
import { type CompileOptions, compile, publisherOf } from '~/core/publication/compile'
import { asyncApi, contractOf, type NamedServer } from '~/core/publication/contract'
import { allTags } from '~/core/publication/steps/behind'
import type { HostFacts } from '~/core/shape/shape'
import type { Scalar } from '~/core/value/deadband'
import type { Db, Noun } from '~/store/database'
import { planOf, rivalPlans } from '~/store/publication'
import { LiveTable } from '../live/table'
import { ModelCache } from '../world'
import { exampleOf, previewOf } from './preview'

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

export interface ContractQuestion extends DraftQuestion {
  kind: 'contract'
  as: 'contract' | 'asyncapi'
  server: NamedServer
}

export type Question = PreviewQuestion | ContractQuestion

/** Present values of tags, in the order in which they were asked for. */
export interface Values {
  value: Scalar[]
  status: Uint32Array
  time: Float64Array
}

/** Gives the present values of some tags, by handle. */
export type AskValues = (handles: readonly number[]) => Promise<Values>

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
 * Answers questions about drafts with a model of its own, read from the database when something in it has changed: the engine
 * lends it values only. So it may take as long as it likes, in a thread of its own.
 */
export class PreviewDesk {
  private readonly model = new ModelCache()
  private stale = { tags: true, equipment: true }
  private queue: Promise<unknown> = Promise.resolve()

  constructor(
    private readonly db: Db,
    private readonly values: AskValues,
  ) {}

  /** Something was changed: what is kept of it is read anew before the next answer. */
  changed(nouns: Iterable<Noun>): void {
    for (const noun of nouns) {
      if (noun === 'tag' || noun === 'source') this.stale.tags = true
      if (noun === 'equipment' || noun === 'tag') this.stale.equipment = true
    }
  }

  /** One after the other: each with the model as it is when its turn comes. */
  answer(q: Question): Promise<object> {
    const turn = this.queue.then(async () => {
      await this.refresh()
      return q.kind === 'preview' ? this.preview(q) : this.contract(q)
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

  private async preview(q: PreviewQuestion): Promise<Preview> {
    const { draft, publicationId, liveVersion } = q
    const { body, source } = compile(draft, this.model, publicationId === undefined ? {} : { publicationId })
    const others = (await rivalPlans(this.db, draft, body.reads, publisherOf(draft.shape))).filter((o) => o.publicationId !== publicationId)
    const live = await this.live(publicationId, liveVersion)
    const tags = new Set([...allTags(body), ...allTags({ equipment: source })])
    const held = q.held?.filter(([h]) => tags.has(h))
    return previewOf(draft, this.model, await this.table(tags), {
      host: q.host,
      plans: live ? [...others, live] : others,
      ...(q.rates && { rates: q.rates }),
      ...(held && { held }),
      ...(q.equipmentId !== undefined && { equipmentId: q.equipmentId }),
      ...(publicationId !== undefined && { publicationId }),
      ...(q.destination && { destination: q.destination }),
    })
  }

  /** What receivers are given: of the live version, or of the draft where nothing is live. */
  private async contract({ draft, publicationId = 'draft', liveVersion, as, server, host }: ContractQuestion): Promise<object> {
    const plan = (await this.live(publicationId, liveVersion)) ?? { ...draft, ...compile(draft, this.model).body, publicationId, number: 0 }
    const example = exampleOf(plan, await this.table(allTags(plan)), host)
    return as === 'contract' ? contractOf(plan, example) : asyncApi(plan, server, example)
  }

  private async live(publicationId: string | undefined, version: number | undefined): Promise<Plan | null> {
    return publicationId !== undefined && version !== undefined ? planOf(this.db, publicationId, version) : null
  }

  /** A table with the present values of these tags, by handle. */
  private async table(tags: Iterable<number>): Promise<LiveTable> {
    const handles = [...tags]
    const { value, status, time } = await this.values(handles)
    const table = new LiveTable()
    table.apply({ handles, values: value, statuses: [...status], times: [...time] })
    return table
  }
}
