import type { LiveFrames } from '~/contract/live'
import { streamOf, type Want } from './wants'

/** What comes over the line to Embrik: frames of the server, and how the line itself is. */
export type Heard =
  | { [K in keyof LiveFrames]: { name: K; frame: LiveFrames[K] } }[keyof LiveFrames]
  | { name: 'silent'; frame: { sinceS: number } }
  | { name: 'lost'; frame: null }
  | { name: 'logged out'; frame: null }

const frameNames = [
  'hello',
  'beat',
  'down',
  'values',
  'sparks',
  'message',
  'course',
  'sources',
  'publications',
  'destinations',
  'ledger',
] as const satisfies readonly (keyof LiveFrames)[]

/** The server says something every 2 s: after this long without a word what is shown is old, ms. */
const SILENT_MS = 4500
/** A line that is silent this long is opened anew: it may be half-open, ms. */
const GIVEN_UP_MS = 12_000
const AGAIN_MS = 1500
/** What is wanted changes many times in a row while somebody scrolls, ms. */
const SETTLES_MS = 120

/** Why the server gives no stream. */
async function reasonOf(): Promise<Heard> {
  try {
    const response = await fetch('/api/session', { signal: AbortSignal.timeout(5000) })
    if (response.status === 401) return { name: 'logged out', frame: null }
    const said = (await response.json()) as Partial<LiveFrames['down']>
    if (!response.ok && said.message) return { name: 'down', frame: { message: said.message, hint: said.hint ?? '' } }
  } catch {
    // Nobody answers, or not in words of ours.
  }
  return { name: 'lost', frame: null }
}

/** One stream of events from the server, for a page or for all pages of a browser: notices when it falls silent, and comes back by itself. */
export class Line {
  private source: EventSource | null = null
  private url = ''
  private heardAt = Date.now()
  private change: ReturnType<typeof setTimeout> | null = null
  private again: ReturnType<typeof setTimeout> | null = null

  constructor(private readonly tell: (h: Heard) => void) {
    setInterval(() => this.look(), 500)
  }

  want(w: Required<Want>): void {
    const url = streamOf(w)
    if (this.change) clearTimeout(this.change)
    if (url === this.url) return
    this.change = setTimeout(() => this.open(url), this.source ? SETTLES_MS : 0)
  }

  private open(url: string): void {
    this.url = url
    if (this.again) clearTimeout(this.again)
    this.again = null
    this.source?.close()
    const source = new EventSource(url)
    this.source = source
    for (const name of frameNames)
      source.addEventListener(name, (e) => {
        if (this.source !== source) return
        this.heardAt = Date.now()
        this.tell({ name, frame: JSON.parse((e as MessageEvent<string>).data) } as Heard)
      })
    source.onerror = () => {
      if (this.source !== source) return
      // A closed source does not come back by itself: the answer was no stream.
      if (source.readyState === EventSource.CLOSED) void this.refused(url)
      else this.tell({ name: 'lost', frame: null })
    }
  }

  /** The answer was no stream: is nobody logged in any more, or what else is in the way? */
  private async refused(url: string): Promise<void> {
    this.tell(await reasonOf())
    this.again ??= setTimeout(() => this.open(url), AGAIN_MS)
  }

  private look(): void {
    const quietMs = Date.now() - this.heardAt
    if (quietMs < SILENT_MS || !this.source) return
    this.tell({ name: 'silent', frame: { sinceS: Math.round(quietMs / 1000) } })
    if (quietMs < GIVEN_UP_MS || this.source.readyState !== EventSource.OPEN) return
    this.heardAt = Date.now() - SILENT_MS
    this.open(this.url)
  }
}
