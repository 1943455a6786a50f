/** One answer to a reading: where it began, and what of it is not counted yet. */
interface Page {
  readonly cursor: string
  /** So many of it have been looked at, from the first on. */
  seen: number
  open: number
  /** What was counted of it, by who it is. */
  readonly counted: number[]
}

/** Something that was told of, and is to be counted. */
export interface Told {
  readonly page: Page
  readonly who: number
}

/** What is written of how far a reading has come: a cursor, and who behind it is counted already; twice who came twice. */
export type WrittenPages = [cursor: string, counted: number[]]

/**
 * How far what a server keeps has been read, page by page. What was seen is counted at once or a little later, in any order: only
 * what was counted is passed over by whoever goes on from here. Things are known by a number of their own, since the same ones may
 * come on other pages the next time.
 */
export class Pages {
  private readonly list: Page[]
  private readonly before = new Map<number, number>()

  constructor([cursor, counted]: WrittenPages = ['', []]) {
    this.list = [pageOf(cursor)]
    for (const who of counted) this.before.set(who, (this.before.get(who) ?? 0) + 1)
  }

  private get last(): Page {
    return this.list.at(-1)!
  }

  /** Where to ask next. */
  get cursor(): string {
    return this.last.cursor
  }

  /** The page held these; gives for each what it is to be counted by, null: it was looked at or counted before. A page may have grown. */
  took(all: readonly number[]): (Told | null)[] {
    const page = this.last
    const told = all.map((who, i) => (i < page.seen || this.wasCounted(page, who) ? null : { page, who }))
    for (const one of told) if (one) page.open++
    page.seen = Math.max(page.seen, all.length)
    return told
  }

  private wasCounted(page: Page, who: number): boolean {
    const times = this.before.get(who) ?? 0
    if (times === 0) return false
    if (times === 1) this.before.delete(who)
    else this.before.set(who, times - 1)
    page.counted.push(who)
    return true
  }

  /** What is on the page is passed over. */
  skip(count: number): void {
    this.last.seen = Math.max(this.last.seen, count)
  }

  /** The next page begins here. */
  next(cursor: string): void {
    if (cursor === this.cursor) return
    this.list.push(pageOf(cursor))
    this.trim()
  }

  /** All that is kept has come: who was counted before and is not there any more comes no more. */
  atEnd(): void {
    this.before.clear()
  }

  counts({ page, who }: Told): void {
    page.open--
    page.counted.push(who)
    this.trim()
  }

  private trim(): void {
    while (this.list.length > 1 && this.list[0]!.open === 0) this.list.shift()
  }

  written(): WrittenPages {
    const before = [...this.before].flatMap(([who, times]) => Array.from({ length: times }, () => who))
    return [this.list[0]!.cursor, [...this.list.flatMap((p) => p.counted), ...before]]
  }
}

const pageOf = (cursor: string): Page => ({ cursor, seen: 0, open: 0, counted: [] })
