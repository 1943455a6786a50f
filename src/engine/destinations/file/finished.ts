/** Names that nobody has taken yet, at most: whoever misses some looks through everything. */
const MOST = 20_000

/** What the sender of a destination tells its witness: which files it has finished. What is in them the witness reads by itself. */
export class Finished {
  private names: string[] = []
  private missed = false
  private hear: () => void = () => undefined

  add(name: string): void {
    if (this.names.length >= MOST) this.missed = true
    else this.names.push(name)
    this.hear()
  }

  /** What has been finished since; null: some of it is not known any more. */
  take(): string[] | null {
    const { names, missed } = this
    this.names = []
    this.missed = false
    return missed ? null : names
  }

  /** Calls back whenever something is finished; one hears at a time. */
  onFinished(hear: () => void): void {
    this.hear = hear
  }
}

const KEY = 'finished files'

/** The one of a place, which outlives connections. */
export function finishedAt(remembered: Map<string, unknown>, place: string): Finished {
  const known = remembered.get(KEY) as { place: string; finished: Finished } | undefined
  if (known?.place === place) return known.finished
  const finished = new Finished()
  remembered.set(KEY, { place, finished })
  return finished
}
