import type { Tag } from '~/contract/tag'
import type { Wrong } from '~/contract/wrong'
import { tagHint } from '~/core/tag/hints'
import { folderOf } from '~/core/tag/view'
import { qualityOf, reasonOf, Status } from '~/core/value/quality'
import type { Clock } from './clock/clock'
import type { LiveTable } from './live/table'

/** A trouble of tags is told when it is there so long after it began, and is over when it has been gone so long, ms. */
const TOLD_AFTER_MS = 10_000
const OVER_AFTER_MS = 120_000
/** How often tags in trouble are looked for, ms. */
export const LOOK_MS = 2000
/** So many names stand in words about many. */
const NAMED = 3

/** Tags of one source that are in one state, which is no good one. */
interface Group {
  sourceId: string
  status: number
  tags: Tag[]
  of: number
}

interface Episode {
  /** Epoch ms, for people. */
  since: number
  begun: number
  seen: number
  told: boolean
  most: number
  /** As it was last. */
  last: Group
  /** How often it was looked at while it lasts, and how often it was there. */
  looks: number
  there: number
  /** How often it came. */
  spells: number
}

interface Context {
  clock: Clock
  table: LiveTable
  tags(): Iterable<Tag>
  /** Name of a source whose link stands; null: its own trouble says all about its tags. */
  upSource(id: string): string | null
  event(severity: 'warning' | 'good', subject: string, message: string, hint: string): void
}

/** A value that stands for the device's is a choice, not a trouble; one that has not come yet is one when it does not come. */
const chosen = new Set([Status.substitute >>> 16, Status.initial >>> 16])

/** Groups tags in trouble by source and reason, knows since when, and tells each such episode once. */
export class TagTroubles {
  private readonly episodes = new Map<string, Episode>()
  private groups: { key: string; group: Group }[] = []

  constructor(private readonly c: Context) {}

  /** Looks at all tags: 50,000 take some ms. */
  look(): void {
    const now = this.c.clock.mono()
    this.groups = this.grouped()
    for (const { key, group } of this.groups) {
      const fresh = { since: this.c.clock.wall(), begun: now, seen: now, told: false, most: 0, last: group, looks: 0, there: 0, spells: 0 }
      const e = this.episodes.get(key) ?? fresh
      this.episodes.set(key, e)
      if (e.spells === 0 || now - e.seen > 1.5 * LOOK_MS) e.spells++
      e.seen = now
      e.last = group
      e.there++
      e.most = Math.max(e.most, group.tags.length)
      if (e.told || now - e.begun < TOLD_AFTER_MS) continue
      e.told = true
      this.c.event('warning', subjectOf(group), causeOf(group, this.c.table), tagHint(group.status))
    }
    for (const [key, e] of this.episodes) {
      e.looks++
      if (now - e.seen < OVER_AFTER_MS) continue
      this.episodes.delete(key)
      const [sourceId, status] = key.split(' ')
      const name = this.c.upSource(sourceId!)
      // A source that is lost, or gone, has told so itself.
      if (e.told && name !== null) this.c.event('good', name, `no tag is ${reasonOf(Number(status) * 65_536)} any more; there were ${e.most}`, '')
    }
  }

  /** What is wrong with tags now, and what comes and goes. */
  now(): Wrong[] {
    const here = new Set(this.groups.map((g) => g.key))
    return [...this.episodes].flatMap(([key, e]) => {
      const group = e.last
      if (!e.told || !(here.has(key) || e.spells > 1) || this.c.upSource(group.sourceId) === null) return []
      const share = Math.round((100 * e.there) / Math.max(1, e.looks))
      const comes = share < 90 ? `; it comes and goes, ${share} % of the time` : ''
      const bad = qualityOf(group.status) === 'bad'
      const kind = group.status >>> 16 === Status.stale >>> 16 ? 'stale' : isRange(group.status) ? 'range' : bad ? 'bad' : 'uncertain'
      return [
        {
          severity: bad ? 'bad' : 'uncertain',
          where: 'tag',
          subjectId: group.tags.length === 1 ? group.tags[0]!.id : null,
          subject: subjectOf(group),
          since: e.since,
          cause: causeOf(group, this.c.table) + comes,
          hint: tagHint(group.status),
          tags: { sourceId: group.sourceId, folder: commonFolder(group.tags), kind },
        },
      ]
    })
  }

  /** How many of a source's tags are in trouble, and the reason of most of them. */
  ofSource(id: string): { count: number; of: number; reason: string } | null {
    const own = this.groups.filter((g) => g.group.sourceId === id).map((g) => g.group)
    const worst = own.reduce<Group | null>((a, b) => (a === null || b.tags.length > a.tags.length ? b : a), null)
    return worst && { count: own.reduce((n, g) => n + g.tags.length, 0), of: worst.of, reason: causeOf(worst, this.c.table) }
  }

  private grouped(): { key: string; group: Group }[] {
    const { table } = this.c
    const groups = new Map<string, Group>()
    const counts = new Map<string, number>()
    for (const t of this.c.tags()) {
      counts.set(t.sourceId, (counts.get(t.sourceId) ?? 0) + 1)
      const status = table.status[t.handle] ?? Status.waitingForInitialData
      if (status >>> 30 === 0 || chosen.has(status >>> 16)) continue
      const key = `${t.sourceId} ${status >>> 16}`
      let g = groups.get(key)
      if (!g) groups.set(key, (g = { sourceId: t.sourceId, status, tags: [], of: 0 }))
      g.tags.push(t)
    }
    return [...groups].flatMap(([key, group]) => {
      if (this.c.upSource(group.sourceId) === null) return []
      group.of = counts.get(group.sourceId)!
      return [{ key, group }]
    })
  }
}

function put<T>(into: Map<string, T[]>, key: string, one: T): void {
  const there = into.get(key)
  if (there) there.push(one)
  else into.set(key, [one])
}

const isRange = (status: number) => status >>> 16 === Status.engineeringUnitsExceeded >>> 16 || status >>> 16 === Status.outOfRange >>> 16

/** The folder in which all of them lie; null: in several, or in none. */
function commonFolder(tags: readonly Tag[]): string | null {
  const folder = folderOf(tags[0]!.name)
  return folder !== '' && tags.every((t) => folderOf(t.name) === folder) ? folder : null
}

function subjectOf({ tags, of }: Group): string {
  if (tags.length === 1) return tags[0]!.name
  const folder = commonFolder(tags)
  if (folder !== null) return folder
  const by = new Map<string, Tag[]>()
  for (const t of tags) put(by, folderOf(t.name) || t.name, t)
  const all = [...by].map(([name, own]) => (own.length === 1 ? own[0]!.name : `${name} (${own.length})`))
  const rest = all.length - NAMED
  return `${tags.length} of ${of} tags: ${all.slice(0, NAMED).join(', ')}${rest > 0 ? ` and ${rest} more` : ''}`
}

/** The reason, in the protocol's own words where it said some. */
function causeOf({ tags, status }: Group, table: LiveTable): string {
  const note = table.notes.get(tags[0]!.handle)?.text
  const many = tags.length === 1 ? '' : `${tags.length} tags `
  const [quality, reason] = [qualityOf(status), reasonOf(status)]
  return `${many}${reason === quality ? quality : `${reason} (${quality})`}${note ? `: ${note}` : ''}`
}
