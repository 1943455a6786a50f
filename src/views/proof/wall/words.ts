import { format } from 'date-fns'
import type { Fate } from '~/core/delivery/wall'
import { countText } from '~/ui/time'

const DAY_MS = 86_400_000

/** What is said of them, one and several; null: it is no news. */
const said: Record<Fate['state'], readonly [one: string, several: string] | null> = {
  missing: ['# did not arrive', '# did not arrive'],
  dropped: ['# was dropped', '# were dropped'],
  rejected: ['# was rejected', '# were rejected'],
  altered: ['# arrived altered', '# arrived altered'],
  foreign: ['# came from somebody else', '# came from somebody else'],
  unknown: ['of # nobody knows whether it arrived', 'of # nobody knows whether they arrived'],
  doubled: ['# arrived more than once', '# arrived more than once'],
  disordered: ['# arrived out of order', '# arrived out of order'],
  late: ['# arrived late', '# arrived late'],
  unseen: ['# was sent while the witness was away', '# were sent while the witness was away'],
  unwatched: null,
  waiting: null,
}
/** Those that are lost, or may be. */
const losses: ReadonlySet<string> = new Set(['missing', 'dropped', 'rejected', 'altered', 'unknown'])

/** A time on the clock, with its day where that is another one than today. */
const clockText = (at: number, now: number) => format(at, Math.abs(now - at) > DAY_MS / 2 ? 'MM-dd HH:mm' : 'HH:mm')

const span = ({ from, to }: Pick<Fate, 'from' | 'to'>, now: number) => {
  const [a, b] = [clockText(from, now), clockText(to, now)]
  return a === b ? `at ${a}` : `between ${a} and ${b}`
}

/** What whoever answers for it asks, in one sentence: whether anything was lost on what is shown, and what else there was. */
export function wallSentence(produced: number, fates: readonly Fate[], from: number, now: number): { text: string; lost: boolean } {
  const since = `since ${clockText(from, now)}`
  if (produced === 0 && fates.length === 0) return { text: `Nothing was sent ${since}`, lost: false }
  const news = fates.filter((f) => said[f.state] !== null)
  const lost = news.some((f) => losses.has(f.state))
  const parts = news.map((f) => `${said[f.state]![f.count === 1 ? 0 : 1].replace('#', countText(f.count))}, ${span(f, now)}`)
  if (!lost) parts.unshift(`Nothing lost ${since} of ${countText(produced)} ${produced === 1 ? 'message' : 'messages'}`)
  const text = parts.join('; ')
  return { text: text[0]!.toUpperCase() + text.slice(1), lost }
}
