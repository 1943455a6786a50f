import type { CompareQuery } from '~/contract/compare'
import type { FollowedTag, JournalMessage, JournalPage, JournalWhole, WhichJournal } from '~/contract/journal'
import type { Destinations } from './destinations/destinations'
import type { Ledger } from './ledger/ledger'
import type { Found, FoundFollowed, FoundPage, FoundWhole } from './outbox/journal-desk'
import type { Previews } from './publications/previews'
import type { Publications } from './publications/publications'

/** Of one delivery the fates of so many messages are looked at, the latest. */
const FATES_MOST = 2_000_000

/** Shows what a destination and the nodes that speak there were given, and what became of it. */
export class JournalView {
  constructor(
    private readonly destinations: Destinations,
    private readonly publications: Publications,
    private readonly ledger: Ledger,
    private readonly previews: Previews,
  ) {}

  private shown<T extends Found>(found: T): T & Pick<JournalMessage, 'publicationId' | 'verdict'> {
    const { delivery, seq, lane, segment, index } = found
    const hops = found.hops ?? this.destinations.running.get(lane)?.outbox.inside.hopsOf(segment, index) ?? null
    const publicationId = this.publications.deliveries.find((d) => d.number === delivery)?.publicationId ?? null
    return { ...found, hops, publicationId, verdict: publicationId === null ? null : (this.ledger.accounts.get(delivery)?.verdict(seq) ?? null) }
  }

  async list(destinationId: string, { publicationId, text = '', until, before, payloads }: WhichJournal): Promise<JournalPage> {
    const lanes = this.destinations.lanesOf(destinationId)
    const own = publicationId === undefined ? null : this.publications.deliveries.filter((d) => d.publicationId === publicationId)
    const deliveries = own?.map((d) => d.number)
    const there = new Set(own?.map((d) => d.lane))
    const asked = lanes.filter((l) => own === null || there.has(l.destination.id)).map((l) => l.destination.id)
    const question = {
      kind: 'journal-page',
      lanes: asked,
      deliveries: deliveries ?? null,
      text,
      until: until ?? null,
      before: before ?? null,
      payloads: payloads === '1',
    } as const
    const page = JSON.parse(await this.previews.ask(question)) as FoundPage
    const { journalMb, journalHours } = lanes[0]!.destination.settings
    return {
      ...page,
      messages: page.messages.map((m) => this.shown(m)),
      bytes: lanes.reduce((sum, l) => sum + l.outbox.journal.bytes, 0),
      capBytes: lanes.length * journalMb * 1_000_000,
      hours: journalHours,
    }
  }

  /** The first message of each live publication that was made since a moment (epoch ms) and carries what is read under a handle. */
  async follow(handle: number, since: number): Promise<FollowedTag[]> {
    const plans = [...this.publications.running.values()].filter((p) => p.reads(handle)).map((p) => p.plan)
    const of = plans.map((plan) => ({ lane: this.publications.laneOf(plan), delivery: plan.delivery }))
    const found = JSON.parse(await this.previews.ask({ kind: 'journal-follow', handle, since, of })) as FoundFollowed[]
    return plans.flatMap((plan, n) => {
      const { message, ...rest } = found[n]!
      // It only says whether a message goes, or where.
      if (rest.members.length === 0) return []
      const { publicationId, name: publication, destinationId } = plan
      const destination = this.destinations.running.get(destinationId)?.destination.name ?? ''
      return [{ publicationId, publication, destinationId, destination, ...rest, message: message && this.shown(message) }]
    })
  }

  /** How tags stand beside where they arrive; as JSON. */
  compare(q: CompareQuery): Promise<string> {
    const publicationIds = q.publicationIds.length > 0 ? q.publicationIds : [...this.publications.running.keys()]
    const wanted = new Set(publicationIds)
    const fates = this.publications.deliveries.flatMap(({ number, publicationId }) => {
      const account = wanted.has(publicationId) ? this.ledger.accounts.get(number) : undefined
      return account ? [[number, account.fates(Math.max(1, account.standing.storedThrough - FATES_MOST))] as const] : []
    })
    return this.previews.ask({ kind: 'compare', ...q, publicationIds, fates })
  }

  async open(destinationId: string, message: { delivery: number; seq: number }, segment: number | null): Promise<JournalWhole> {
    const lanes = this.destinations.lanesOf(destinationId).map((l) => l.destination.id)
    const lane = this.publications.deliveries.find((d) => d.number === message.delivery)?.lane
    const asked = lane !== undefined && lanes.includes(lane) ? [lane] : lanes
    return this.shown(JSON.parse(await this.previews.ask({ kind: 'journal-message', lanes: asked, segment, ...message })) as FoundWhole)
  }
}
