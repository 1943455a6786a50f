import type { Engine } from '~/engine/engine'
import { until } from './support'

/** What lines of messages of a thread test go by. */
interface Lines {
  /** How many there are, and how messages are made for one. */
  count: number
  offer(line: number, n: number): void
  /** Messages that wait in the outbox; null: there is none yet. */
  waiting(): number | null
}

/** Makes messages for all lines in turns, fifty at a time, while there is room in the outbox. */
export async function flowInto(lines: Lines, total: number, during: (round: number) => void | Promise<void> = () => undefined): Promise<void> {
  for (let done = 0, round = 0; done < total; done += 50 * lines.count, round++) {
    await until(() => (lines.waiting() ?? Number.POSITIVE_INFINITY) < 30_000, 'room in the outbox', 300)
    for (let line = 0; line < lines.count; line++) lines.offer(line, Math.min(50, total))
    await during(round)
    await new Promise((next) => setImmediate(next))
  }
}

/** Everything that was made is stored and has its verdict. (While the witness is away the counts on the screen show what waits as unknown.) */
export function judged(engine: Engine, delivery: number): boolean {
  const account = engine.ledger.account(delivery)
  const c = account.counts()
  return c.waiting === 0 && c.produced === account.numberedThrough
}

export const allJudged = (engine: () => Engine, deliveries: readonly number[], seconds: number) =>
  until(() => deliveries.every((d) => judged(engine(), d)), 'every verdict', seconds)
