import type { LiveFrames } from '~/contract/live'
import { type Heard, Line } from './line'
import { type Part, together, type Want } from './wants'

/** What a page says to the hub: what it watches (nothing while nobody sees it), again and again while it is there. */
export type Said = { want: Want } | { bye: true }

/** A page that says nothing for so long is gone without a word, ms: pages that nobody sees say something once a minute. */
const GONE_MS = 180_000

interface Page {
  say(h: Heard): void
  want: Required<Want>
  tags: Set<number>
  /** Epoch ms: when it last said that it is there. */
  saidAt: number
}

const partNames: readonly string[] = ['sources', 'publications', 'destinations', 'ledger'] satisfies Part[]

/** One line to Embrik for all pages of a browser, which otherwise may have six: each page hears what it watches. */
export class Hub {
  private readonly pages = new Map<object, Page>()
  private readonly values = new Map<number, LiveFrames['values'][number]>()
  private readonly sparks: LiveFrames['sparks'] = {}
  private readonly messages = new Map<string, LiveFrames['message']>()
  private readonly last = new Map<string, Heard>()
  private readonly line: { want(w: Required<Want>): void }

  constructor(line: (tell: (h: Heard) => void) => { want(w: Required<Want>): void } = (tell) => new Line(tell)) {
    this.line = line((h) => this.heard(h))
  }

  get size(): number {
    return this.pages.size
  }

  said(key: object, what: Said, say: (h: Heard) => void, now = Date.now()): void {
    for (const [k, p] of this.pages) if (now - p.saidAt > GONE_MS) this.pages.delete(k)
    if ('bye' in what) this.pages.delete(key)
    else {
      const before = this.pages.get(key)
      const want = together([what.want])
      const page = { say, want, tags: new Set(want.tags), saidAt: now }
      this.pages.set(key, page)
      this.catchUp(page, before)
    }
    this.line.want(together([...this.pages.values()].map((p) => p.want)))
  }

  /** What others had asked for already comes at once. */
  private catchUp(page: Page, before: Page | undefined): void {
    const { say, want } = page
    if (!before) for (const name of ['hello', 'down', 'lost', 'course']) this.repeat(name, page)
    for (const p of want.parts) if (!before?.want.parts.includes(p)) this.repeat(p, page)
    const fresh = want.tags.filter((h) => !before?.tags.has(h))
    const values = fresh.map((h) => this.values.get(h)).filter((v) => v !== undefined)
    if (values.length > 0) say({ name: 'values', frame: values })
    const sparks = want.sparks ? fresh.filter((h) => h in this.sparks) : []
    if (sparks.length > 0) say({ name: 'sparks', frame: Object.fromEntries(sparks.map((h) => [h, this.sparks[h]!])) })
    for (const id of want.messages) {
      const m = before?.want.messages.includes(id) ? undefined : this.messages.get(id)
      if (m) say({ name: 'message', frame: m })
    }
  }

  private repeat(name: string, { say }: Page): void {
    const h = this.last.get(name)
    if (h) say(h)
  }

  private heard(h: Heard): void {
    if (h.name === 'hello') {
      // Another stream: what was not asked for any more has not been kept up.
      this.last.delete('down')
      this.last.delete('lost')
      this.keepOnly(together([...this.pages.values()].map((p) => p.want)))
    }
    if (h.name === 'down') for (const over of ['hello', 'lost']) this.last.delete(over)
    if (h.name === 'lost') for (const over of ['hello', 'down']) this.last.delete(over)
    if (h.name === 'values') for (const v of h.frame) this.values.set(v[0], v)
    else if (h.name === 'sparks') Object.assign(this.sparks, h.frame)
    else if (h.name === 'message') this.messages.set(h.frame.publicationId, h.frame)
    else if (h.name !== 'beat' && h.name !== 'silent' && h.name !== 'logged out') this.last.set(h.name, h)
    for (const page of this.pages.values()) this.pass(h, page)
  }

  private keepOnly(want: Required<Want>): void {
    const tags = new Set(want.tags)
    for (const h of this.values.keys()) if (!tags.has(h)) this.values.delete(h)
    for (const h of Object.keys(this.sparks)) if (!want.sparks || !tags.has(Number(h))) delete this.sparks[h]
    for (const id of this.messages.keys()) if (!want.messages.includes(id)) this.messages.delete(id)
    for (const name of partNames) if (!want.parts.includes(name as Part)) this.last.delete(name)
  }

  private pass(h: Heard, page: Page): void {
    const { want, tags, say } = page
    if (h.name === 'values') {
      const own = h.frame.filter((v) => tags.has(v[0]))
      if (own.length > 0) say({ name: 'values', frame: own })
    } else if (h.name === 'sparks') {
      const own = want.sparks ? Object.entries(h.frame).filter(([handle]) => tags.has(Number(handle))) : []
      if (own.length > 0) say({ name: 'sparks', frame: Object.fromEntries(own) })
    } else if (h.name === 'message') {
      if (want.messages.includes(h.frame.publicationId)) say(h)
    } else if (!partNames.includes(h.name) || want.parts.includes(h.name as Part)) say(h)
  }
}
