import type { FileSettings } from '~/contract/destinations/file'
import { type Failure, FailureError } from '~/contract/failure'
import type { WitnessView } from '~/core/delivery/account'
import { digest } from '~/core/delivery/digest'
import { type Clock, sleep, within } from '../../clock/clock'
import { wordsOf } from '../../log'
import type { FarEnd, FarSink, Position } from '../far-end'
import { readRowId } from '../rows'
import { meaningOf } from './answers'
import type { Finished } from './finished'
import { decode, type KeptRow, plainKept } from './format'
import { type FileName, readName, tagOf } from './names'
import { ReadFiles, type Told, type WrittenFiles } from './reading'
import { timely } from './sender'
import type { Store } from './store'

/** Sightings that are not written yet: with more no other file is read. */
const UNWRITTEN_MOST = 20_000
/** Rows that are told before the rest of the engine goes on. */
const ROWS_AT_ONCE = 500
/** Whether something was finished is looked for so often, ms. */
const LOOK_MS = 500
/** All is looked through so often at most while messages wait for nothing else, ms. */
const LOOK_AGAIN_MS = 4000
/** A finished file that is not to be seen is looked for so long, ms. */
const ABSENT_MS = 15_000

/** What is written of how far it has come; the time by the wall clock, epoch ms. */
interface Written {
  since: number
  files: WrittenFiles
}

/** A message as it lies in a file: rows of which numbers. */
interface Copy {
  id: string | null
  numbers: readonly number[]
  digest: number
}

interface Token {
  told: Told
  rows: readonly number[]
}

/**
 * Reads finished files again, row by row: those of which the sender tells, at once, and now and then all that lie there. Files are
 * known by their names: what is none of this destination's is left alone.
 */
export class FileFarEnd implements FarEnd {
  private files = new ReadFiles()
  private readonly tag: string
  private store: Store | null = null
  private since: number | null = null
  private connectedAt: number | null = null
  private clearAt = Number.NEGATIVE_INFINITY
  private lookedAt = Number.NEGATIVE_INFINITY
  private askedAt: number | null = null
  private asked = false
  private changed = false
  private wanted: readonly string[] = []
  /** Folders of versions before. */
  private older: readonly string[] = []
  private readonly absent = new Map<string, number>()
  private unwritten = 0
  private wake: () => void = () => undefined

  constructor(
    id: string | null,
    private readonly open: () => Store,
    private readonly s: FileSettings,
    private readonly finished: Finished,
    private readonly sink: FarSink,
    private readonly clock: Clock,
  ) {
    this.tag = tagOf(id)
    finished.onFinished(() => this.wake())
  }

  restore(position: Position): void {
    if (!position || position === 'forget') return
    const { since, files } = JSON.parse(Buffer.from(position).toString('utf8')) as Written
    this.since = since + this.clock.mono() - this.clock.wall()
    this.files = new ReadFiles(files)
  }

  position(): Uint8Array | null {
    if (!this.changed || this.since === null) return null
    this.changed = false
    const written: Written = { since: this.since - this.clock.mono() + this.clock.wall(), files: this.files.written() }
    return Buffer.from(JSON.stringify(written))
  }

  prepare(): void {
    // Nothing changes there because somebody reads.
  }

  async connect(): Promise<void> {
    const store = this.open()
    this.store = store
    try {
      await timely(this.clock, this.s, store.begin())
      if (this.since === null) await this.passAll(store)
    } catch (e) {
      if (this.store === store) this.drop()
      throw new FailureError(this.failureFor(e), 502)
    }
    if (this.store !== store) throw new FailureError(closedWhile, 502)
    this.connectedAt = this.clock.mono()
    this.lookedAt = Number.NEGATIVE_INFINITY
    void this.run(store)
  }

  private failureFor(e: unknown): Failure {
    return { ...meaningOf(e, this.s.store === 'folder' ? this.s.folder : this.s.bucket).failure, where: 'witness' }
  }

  /** What lay there before anybody watched is nobody's concern. */
  private async passAll(store: Store): Promise<void> {
    const at = this.clock.mono()
    this.finished.take()
    for (const [name, file] of await this.ours(store, [''])) this.files.pass(name, file)
    this.since = at
    this.changed = true
  }

  /** Files of this destination that lie in some folders, by place in the order of their messages. */
  private async ours(store: Store, folders: readonly string[]): Promise<[string, FileName][]> {
    const out = new Map<string, FileName>()
    for (const folder of folders) {
      const names = store.list(folder)[Symbol.asyncIterator]()
      for (;;) {
        this.askedAt = this.clock.mono()
        const page = await timely(this.clock, this.s, names.next()).finally(() => {
          this.askedAt = null
        })
        if (page.done) break
        for (const name of page.value) {
          const file = readName(name)
          if (file?.tag === this.tag) out.set(name, file)
        }
      }
    }
    return [...out].sort(([, a], [, b]) => a.first - b.first || a.at - b.at)
  }

  private async run(store: Store): Promise<void> {
    const here = () => this.store === store
    while (here()) {
      try {
        const names = this.finished.take()
        const told = (names ?? []).filter((name) => !this.files.wasRead(name))
        // What an earlier run left unread, or was told of and is not known any more, comes before what is told now: of a place only
        // what lies behind the last that was read is new.
        if (names === null || this.lookedAt === Number.NEGATIVE_INFINITY) await this.lookThrough(store)
        if (here()) await this.readFinished(store, told)
        const now = this.clock.mono()
        const due = now - this.lookedAt >= (this.asked ? Math.min(LOOK_AGAIN_MS, this.s.lookEveryS * 1000) : this.s.lookEveryS * 1000)
        if (here() && due && this.absent.size === 0) await this.lookThrough(store)
      } catch (e) {
        if (!here()) return
        this.drop()
        this.sink.lost(this.failureFor(e))
        return
      }
      if (here()) await within(this.clock, LOOK_MS, new Promise<void>((woken) => (this.wake = woken)))
    }
  }

  /** Reads what the sender has finished since. */
  private async readFinished(store: Store, names: readonly string[]): Promise<void> {
    const now = this.clock.mono()
    for (const name of names) if (!this.files.wasRead(name)) this.absent.set(name, now)
    for (const [name, told] of [...this.absent]) {
      if (this.store !== store) return
      const file = readName(name)
      // It may have been come upon meanwhile, when all was looked through after a lost link.
      const there = this.files.wasRead(name) || (file !== null && (await this.read(store, name, file)))
      if (this.store !== store && !there) return
      // Where folders are shared over a network a file may come to be seen a little later.
      if (there || this.clock.mono() - told > ABSENT_MS) this.absent.delete(name)
    }
  }

  /** Looks for files that nobody told of: of an earlier run, or of a try whose answer was lost. */
  private async lookThrough(store: Store): Promise<void> {
    const at = this.clock.mono()
    this.lookedAt = at
    this.asked = false
    for (const name of this.files.unfinished) {
      const file = readName(name)
      const there = file !== null && (await this.read(store, name, file))
      // Not read since the link was lost is not gone.
      if (this.store !== store) return
      if (file && !there) this.files.pass(name, file)
    }
    // Which are new is told before any of them is read: names bear the wall clock, which may have been set between two of them.
    const fresh = (await this.ours(store, this.folders())).filter(([name, file]) => this.files.isNew(name, file))
    for (const [name, file] of fresh) {
      if (this.store !== store) return
      await this.read(store, name, file)
    }
    if (this.store === store) this.clearAt = at
  }

  /** Folders in which files may be, without those that lie in another one. */
  private folders(): string[] {
    const all = [...new Set([...this.wanted, ...this.older])].map((read) => read.replace(/^\//, ''))
    return all.filter((folder) => !all.some((other) => other !== folder && folder.startsWith(other)))
  }

  /** @returns whether it is there */
  private async read(store: Store, name: string, file: FileName): Promise<boolean> {
    while (this.unwritten > UNWRITTEN_MOST && this.store === store) {
      this.sink.hurry()
      await within(this.clock, LOOK_MS, new Promise<void>((woken) => (this.wake = woken)))
    }
    if (this.store !== store) return false
    this.askedAt = this.clock.mono()
    const octets = await timely(this.clock, this.s, store.get(name)).finally(() => {
      this.askedAt = null
    })
    if (!octets || this.store !== store) return false
    let rows: KeptRow[]
    try {
      rows = await decode(octets, name, this.s.idColumn)
    } catch (e) {
      this.cannotRead(name, file, e)
      return true
    }
    const messages = await this.messagesOf(rows)
    if (this.store !== store) return false
    // From here on nothing is waited for: what is begun is told.
    this.tell(file, messages, this.files.begin(name, file, rows.length))
    return true
  }

  private async messagesOf(rows: readonly KeptRow[]): Promise<Copy[]> {
    const out: Copy[] = []
    for (const [n, { id, numbers }] of messagesIn(rows).entries()) {
      if (n > 0 && n % ROWS_AT_ONCE === 0) await sleep(this.clock, 0)
      out.push({ id, numbers, digest: digest(Buffer.from(plainKept(numbers.map((i) => rows[i]!.row)))) })
    }
    return out
  }

  private cannotRead(name: string, file: FileName, e: unknown): void {
    this.files.pass(name, file)
    this.changed = true
    this.sink.damaged(name, wordsOf(e).slice(0, 200))
  }

  private tell({ place }: FileName, messages: readonly Copy[], told: Told): void {
    this.changed = true
    const [at, mono] = [this.clock.wall(), this.clock.mono()]
    // Of a file that an earlier run began with, some have been counted.
    const left = told.counted.count === 0 ? messages : messages.filter(({ numbers }) => !numbers.every((i) => told.counted.has(i)))
    this.unwritten += left.length
    for (const { id, numbers, digest: seen } of left) {
      const token: Token = { told, rows: numbers }
      this.sink.sighting({ id, topic: place, digest: seen, at, mono, repeated: false, held: false, comesAgain: true, token })
    }
  }

  counted(token: unknown): void {
    const { told, rows } = token as Token
    this.files.counts(told, rows)
    this.changed = true
  }

  safe(): void {
    this.unwritten--
    if (this.unwritten === UNWRITTEN_MOST) this.wake()
  }

  async watch(filters: readonly string[]): Promise<void> {
    this.older = [...new Set([...this.older, ...this.wanted])]
    this.wanted = [...filters]
  }

  release(needed: readonly string[]): void {
    this.older = [...needed]
  }

  view(): WitnessView | null {
    if (this.connectedAt === null || this.since === null) return null
    const { since } = this
    return {
      connectedAt: this.connectedAt,
      clearAt: this.clearAt,
      // Files of different paths are finished in any order.
      seenAt: Number.NEGATIVE_INFINITY,
      seenAnyAt: Number.NEGATIVE_INFINITY,
      coveredSince: () => (this.wanted.length > 0 ? since : Number.POSITIVE_INFINITY),
    }
  }

  probe(): void {
    this.asked = true
  }

  silentMs(): number {
    return this.askedAt === null ? 0 : this.clock.mono() - this.askedAt
  }

  private drop(): void {
    const { store } = this
    this.store = null
    this.connectedAt = null
    this.askedAt = null
    store?.close()
    this.wake()
  }

  close(): void {
    this.drop()
  }
}

/** Rows as messages, with where they stand: rows of one message follow each other, each says which it is of how many. */
export function messagesIn(rows: readonly KeptRow[]): { id: string | null; numbers: number[] }[] {
  const out: { id: string | null; numbers: number[]; next: number; of: number }[] = []
  rows.forEach(({ id }, i) => {
    const { id: of, k, of: count } = id === null ? { id: null, k: 0, of: 1 } : readRowId(id)
    const last = out.at(-1)
    if (last && count > 1 && last.id === of && last.next === k && last.of === count) {
      last.numbers.push(i)
      last.next++
    } else out.push({ id: of, numbers: [i], next: k + 1, of: count })
  })
  return out
}

const closedWhile: Failure = {
  code: 'file.closed',
  message: 'The reading was ended while it began',
  hint: 'Embrik tries again',
  where: 'witness',
}
