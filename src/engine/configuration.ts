import { listen, type Noun } from '~/store/database'
import { log, wordsOf } from './log'

const AGAIN_MS = 2000
/** Announcements that come together are one. */
const GATHER_MS = 30
const LISTEN_AGAIN_MS = 500

const all = ['source', 'tag', 'equipment', 'destination', 'publication', 'credential'] as const satisfies Noun[]

/** Hears what changed in the database, and has it read again: one reading at a time, each part again until it succeeds. */
export class Configuration {
  private stopListening: (() => Promise<void>) | null = null
  private pending = new Set<Noun>()
  private timer: NodeJS.Timeout | null = null
  private reading: Promise<void> = Promise.resolve()
  private stopped = false

  /** `read` reads one set of things and takes it up; gives those that failed. */
  constructor(
    private readonly url: string,
    private readonly read: (nouns: ReadonlySet<Noun>) => Promise<Noun[]>,
  ) {}

  async start(): Promise<void> {
    await this.listen()
    this.changed(...all)
    await this.now()
  }

  private async listen(): Promise<void> {
    this.stopListening = await listen(
      this.url,
      (noun) => this.changed(noun),
      (e) => {
        log('warn', 'database', `announcements lost: ${wordsOf(e)}`)
        void this.listenAgain()
      },
    )
  }

  private async listenAgain(): Promise<void> {
    while (!this.stopped) {
      await new Promise((done) => setTimeout(done, LISTEN_AGAIN_MS))
      try {
        await this.listen()
        // What was announced meanwhile nobody heard.
        this.changed(...all)
        return
      } catch {
        // Said once by the loss itself; the next round tries again.
      }
    }
  }

  changed(...nouns: Noun[]): void {
    for (const n of nouns) this.pending.add(n)
    if (this.stopped || this.timer) return
    this.timer = setTimeout(() => void this.now(), GATHER_MS)
  }

  /** Reads what is known to have changed, after whatever is being read. */
  now(): Promise<void> {
    if (this.timer) clearTimeout(this.timer)
    this.timer = null
    return this.after(async () => {
      const nouns = this.pending
      this.pending = new Set()
      if (nouns.size === 0 || this.stopped) return
      const failed = await this.read(nouns)
      if (failed.length > 0) setTimeout(() => this.changed(...failed), AGAIN_MS).unref()
    })
  }

  /** Does something while nothing is being read. */
  after<T>(work: () => Promise<T>): Promise<T> {
    const done = this.reading.then(work)
    this.reading = done.then(
      () => undefined,
      (e: unknown) => log('error', 'engine', `reading the configuration: ${wordsOf(e)}`),
    )
    return done
  }

  async stop(): Promise<void> {
    this.stopped = true
    if (this.timer) clearTimeout(this.timer)
    await this.stopListening?.().catch(() => undefined)
    await this.reading
  }
}
