import { COMPARED_MESSAGES, COMPARED_MOST, type Compared, type CompareFinding, type ComparePair, type CompareQuery } from '~/contract/compare'
import { fail } from '~/contract/failure'
import type { Plan } from '~/contract/publication'
import type { Tag } from '~/contract/tag'
import { type Beside, type Comparison, compare } from '~/core/compare/compare'
import { findExchanged } from '~/core/compare/exchanged'
import { along, inOrder, Names, type Track, thinned } from '~/core/compare/track'
import type { Fates } from '~/core/delivery/account'
import type { Scalar } from '~/core/value/deadband'
import type { Db } from '~/store/database'
import { plansBetween } from '~/store/journal'
import { listDeliveries } from '~/store/publication'
import type { JournalDesk } from '../outbox/journal-desk'
import { type Arrival, ArrivalReader, emptyArrival } from './arrivals'
import { type Arriving, type Pair, pairsOf, tagPair } from './pairs'
import { type TagTrack, type TagTracks, tagTracks } from './tag-tracks'

/** Asks how tags stand beside where they arrive. */
export interface CompareQuestion extends CompareQuery {
  kind: 'compare'
  /** How messages stand, by delivery. */
  fates: readonly (readonly [delivery: number, Fates])[]
}

/** So long is read for one answer, ms. */
const READ_MS = 10_000
/** Of one publication at least so many messages are read, however many there are. */
const MESSAGES_LEAST = 200
/** What came here so shortly before or after may be what was sent, ms. */
const SLACK_MS = 50
const OWN_SLACK_MS = 2
/** What comes by another way may take so long, ms. */
const BEHIND_MS = 120_000
/** Points of an opened curve. */
const STRETCHES = 300

interface Compare {
  pair: Pair
  beside: Beside
  comparison: Comparison
  arrival: Arrival | null
  tracks: { held: TagTrack; came: TagTrack | null }
}

/** Holds tags beside what arrived of them, by the recording of tags and the journal of messages. */
export class Comparing {
  constructor(
    private readonly db: Db,
    private readonly journal: JournalDesk,
    /** So many messages are read for one answer. */
    private readonly messagesMost = COMPARED_MESSAGES,
  ) {}

  async compare(q: CompareQuestion, tags: ReadonlyMap<string, Tag>): Promise<Compared> {
    const notes: string[] = []
    const names = new Names()
    const { arriving, plans, left } = await this.pairsOf(q, tags, notes)
    const read = q.tags.flatMap(({ held, came }) => {
      const [a, b] = [tags.get(held), tags.get(came)]
      const pair = a && b ? tagPair(a, b) : null
      return pair && (q.open === null || q.open === pair.key) ? [pair] : []
    })
    const all = [...arriving.map((a) => a.pair), ...read]
    if (all.length === 0) return { from: q.from, to: q.to, pairs: [], left, notes }
    const handles = new Set(all.flatMap(({ held, other }) => (other ? [held.handle, other.handle] : [held.handle])))
    const named = new Set(all.flatMap((p) => (p.named ? [p.held.handle, p.other?.handle ?? p.held.handle] : [])))
    const tracks = await tagTracks(this.db, handles, named, names, q.from, q.to)
    if (!tracks)
      throw fail(
        409,
        'compare.nothing',
        'Nothing of that time is recorded',
        'Wait a minute if it has only begun, or take another time; see EMBRIK_RECORDING_MB',
        'tag',
      )
    notes.push(...tracks.notes)
    if (tracks.from > q.from + 1000) notes.push('What tags held is recorded only from the later time on')
    const arrivals = await this.arrivals(q, arriving, plans, names, tracks, notes)
    const compared = all.map((pair) => compareOne(pair, tracks, arrivals.get(pair.key) ?? null))
    if (q.open === null) findExchanged(compared)
    const bases = new Map(q.fates.map(([number, { witnessed }]) => [number, witnessed]))
    const witnessed = new Map([...plans].map(([id, { deliveries }]) => [id, deliveries.some((d) => bases.get(d.number) ?? true)]))
    const pairs = compared.map((c) => shown(c, compared, witnessed, q.open === null ? null : tracks))
    return { from: tracks.from, to: tracks.to, pairs: pairs.sort((a, b) => worseOf(b) - worseOf(a)), left, notes }
  }

  /** Pairs of publications as they were live last in that time. */
  private async pairsOf({ publicationIds, open, from, to }: CompareQuestion, tags: ReadonlyMap<string, Tag>, notes: string[]) {
    const byHandle = new Map([...tags.values()].map((t) => [t.handle, t]))
    const deliveries = await listDeliveries(this.db)
    const plans = new Map<string, { plans: { plan: Plan; at: number }[]; deliveries: { lane: string; number: number }[] }>()
    const arriving: Arriving[] = []
    let left = 0
    let others = 0
    let skipped = 0
    for (const id of publicationIds) {
      if (open !== null && !open.startsWith(`${id} `)) continue
      if (arriving.length >= COMPARED_MOST) {
        skipped++
        continue
      }
      const versions = await plansBetween(this.db, id, from, to)
      const last = versions.at(-1)?.plan
      if (!last) continue
      const found = pairsOf(last, byHandle)
      others += found.others
      const wanted = open === null ? found.pairs : found.pairs.filter(({ pair }) => pair.key === open)
      const room = COMPARED_MOST - arriving.length
      left += Math.max(0, wanted.length - room)
      arriving.push(...wanted.slice(0, room))
      plans.set(id, { plans: versions, deliveries: deliveries.filter((d) => d.publicationId === id) })
    }
    if (skipped > 0) notes.push(`${skipped} more publications are not in it: choose one of them`)
    if (others > 0 && open === null)
      notes.push(
        `${others} ${others === 1 ? 'member is' : 'members are'} made of several tags, of records or by a step, or hold times: ${others === 1 ? 'it is' : 'they are'} not compared`,
      )
    return { arriving, plans, left }
  }

  private async arrivals(
    q: CompareQuestion,
    arriving: readonly Arriving[],
    plans: ReadonlyMap<string, { plans: { plan: Plan; at: number }[]; deliveries: { lane: string; number: number }[] }>,
    names: Names,
    { from, to }: TagTracks,
    notes: string[],
  ): Promise<Map<string, Arrival>> {
    const fates = new Map(q.fates)
    const out = new Map<string, Arrival>()
    const end = performance.now() + READ_MS
    const share = Math.floor(this.messagesMost / Math.max(1, plans.size))
    const each = Math.min(this.messagesMost, Math.max(MESSAGES_LEAST, share))
    let cut = 0
    let unread = 0
    for (const [id, { plans: versions, deliveries }] of plans) {
      const own = arriving.filter(({ pair }) => pair.came.kind === 'member' && pair.came.publicationId === id)
      const reader = new ArrivalReader(own, (at) => versions.findLast((v) => v.at <= at)?.plan ?? null, names)
      let readTo = Number.POSITIVE_INFINITY
      let unknown = 0
      for (const { lane, number } of deliveries) {
        const known = fates.get(number)
        const ended = known ? await reader.read(this.journal, { lane, number, fates: known }, from, to, each, () => performance.now() > end) : null
        if (!known) unknown++
        if (ended !== null) readTo = Math.min(readTo, ended)
      }
      if (readTo < to) cut++
      unread += reader.unread
      // What is behind the end of what was read says nothing, and what cannot be read may be of any of them.
      for (const [key, arrival] of reader.byKey) out.set(key, { ...arrival, to: readTo, unread: reader.unread + unknown })
    }
    if (cut > 0)
      notes.push(
        `Of ${cut} ${cut === 1 ? 'publication' : 'publications'} there is more than is read at once: choose a shorter time, or fewer of them`,
      )
    if (unread > 0) notes.push(`${unread} messages cannot be read back by their shape: they are not compared`)
    return out
  }
}

const none: TagTrack = { byDevice: { at: [], value: [] }, byArrival: { at: [], value: [] }, last: null }
const registers = (tag: Tag) => {
  const s = tag.scaling
  if (!s) return { factor: 1, offset: 0 }
  const factor = (s.high - s.low) / (s.rawHigh - s.rawLow)
  return { factor, offset: s.low - s.rawLow * factor }
}

function compareOne(pair: Pair, { from, to, byHandle }: TagTracks, arrival: Arrival | null): Compare {
  const held = byHandle.get(pair.held.handle) ?? none
  const other = pair.other && (byHandle.get(pair.other.handle) ?? none)
  const arrived = other ? null : (arrival ?? emptyArrival())
  // Times that values tell are those of devices; what has none came when it was made.
  const timed = other !== null || arrived!.timed
  const beside: Beside = {
    held: timed ? held.byDevice : held.byArrival,
    came: inOrder(other ? sinceOf(other.byDevice, from) : arrived!.came),
    saidLaterMs: arrived?.saidLaterMs ?? [],
    stated: pair.stated,
    units: { held: pair.held.unit, said: pair.came.unit },
    raw: registers(pair.held),
    ...{ logical: pair.logical, named: pair.named, width: pair.width, from, to: Math.min(to, arrived?.to ?? to) },
    slackMs: timed ? OWN_SLACK_MS : SLACK_MS,
    behindMs: other ? BEHIND_MS : 0,
  }
  return { pair, beside, comparison: compare(beside), arrival: arrived, tracks: { held, came: other } }
}

/** Without what was held before. */
const sinceOf = ({ at, value }: Track, from: number): Track => ({ at: at.filter((t) => t >= from), value: value.filter((_, i) => at[i]! >= from) })

/** Worst is what does not come, then what differs and has a name, then what differs; of those alike what is farther off. */
function worseOf({ state, finding, rms, span, off, arrived }: ComparePair): number {
  const ranks = { nothing: 5, differs: finding ? 4 : 3, agrees: finding ? 2 : 1, open: 1.5, unsent: 0.5, little: 0 }
  const far = rms !== null && span > 0 ? Math.min(1, rms / span) : arrived > 0 ? off / arrived : 0
  return ranks[state] * 10 + far
}

const plain = (value: Scalar | undefined) => (typeof value === 'bigint' ? Number(value) : (value ?? null))

function findingOf({ finding }: Comparison, all: readonly Compare[]): CompareFinding | null {
  if (finding?.kind === 'exchanged') return { kind: 'exchanged', with: all[finding.with]!.pair.key }
  if (finding?.kind === 'other') return { kind: 'other', carries: all[finding.carries]!.pair.key }
  return finding
}

function lagOf(lags: readonly number[]): ComparePair['lag'] {
  if (lags.length === 0) return null
  const sorted = lags.toSorted((a, b) => a - b)
  return { median: sorted[sorted.length >> 1]!, most: sorted.at(-1)! }
}

/** Both curves; what says that it came at another time lies there. */
function curvesOf({ held, came, stated }: Beside, { from, to }: TagTracks): NonNullable<ComparePair['curves']> {
  const [first, last] = [Math.min(from, came.at[0] ?? from), Math.max(to, came.at.at(-1) ?? to)]
  return { held: thinned(along(held, stated), from, to, STRETCHES), came: thinned(came, first, last, STRETCHES) }
}

/** What was judged by tracks alone, in the light of what was sent. */
function standingOf(k: Comparison, arrival: Arrival | null, all: readonly Compare[]): Pick<ComparePair, 'state' | 'finding'> {
  const told = { state: k.state, finding: findingOf(k, all) }
  if (!arrival) return told
  const lost = arrival.lost + arrival.altered
  // What nobody can judge, or read, may have arrived; what was not sent need not.
  if (k.state === 'nothing') {
    if (arrival.open + arrival.unread > 0) return { state: 'open', finding: null }
    return lost > 0 ? told : { state: 'unsent', finding: null }
  }
  if (k.finding?.kind !== 'still' || lost > 0) return told
  return { state: 'agrees', finding: arrival.unread > 0 ? null : told.finding }
}

function shown(c: Compare, all: readonly Compare[], witnessed: ReadonlyMap<string, boolean>, curves: TagTracks | null): ComparePair {
  const { pair, beside, comparison: k, arrival, tracks } = c
  const { held, carried, came: arrived, off, span, most, rms, decimals, between, unexplained } = k
  const basis = pair.came.kind === 'tag' ? 'read' : (witnessed.get(pair.came.publicationId) ?? true) ? 'seen' : 'acknowledged'
  const lag = arrival ? lagOf(arrival.lags) : k.behindMs === null ? null : { median: k.behindMs, most: k.behindMs }
  const last = arrival ? arrival.last : (tracks.came?.last ?? null)
  return {
    ...{
      key: pair.key,
      tagId: pair.held.id,
      tag: pair.held.name,
      unit: pair.held.unit,
      came: pair.came,
      basis,
      writable: pair.held.access === 'read-write',
      stated: pair.stated,
    },
    ...{ ...standingOf(k, arrival, all), held, carried, arrived, off, lag, span, most, rms, decimals, between, unexplained },
    ...{ width: pair.width, lost: arrival?.lost ?? 0, altered: arrival?.altered ?? 0, open: arrival?.open ?? 0 },
    now: {
      held: { value: plain(tracks.held.last?.value), at: tracks.held.last?.at ?? null },
      came: { value: plain(last?.value), at: last?.at ?? null },
    },
    ...(curves && !pair.named && { curves: curvesOf(beside, curves) }),
  }
}
