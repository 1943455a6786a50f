import type { Counts, EventRow } from '~/contract/live'

export interface News {
  severity: EventRow['severity']
  code: string
  message: string
  hint: string
}

const told = [
  [
    'missing',
    'trouble',
    'missing: acknowledged, and not seen by the witness in time',
    'Between the broker and its readers: its log, its queues, a bridge behind it',
  ],
  [
    'altered',
    'trouble',
    'altered: arrived with another payload or topic than was sent',
    'Somebody between rewrites messages: a bridge, a rule, a faulty broker',
  ],
  [
    'foreign',
    'warning',
    'foreign: on topics of this publication, and not sent by it',
    'Another sender writes there: give it other topics, or take its permission',
  ],
  ['disordered', 'warning', 'disordered: arrived after a later one of their topic', 'Whoever reads these topics must go by the time in the payload'],
  ['unknown', 'warning', 'unknown: the witness was away for too long to say', 'Look why the witness was away'],
  ['late', 'note', 'late', ''],
  ['doubled', 'note', 'doubled: sent again because an acknowledgement was lost, or repeated on the way', ''],
] as const

/** While something goes on, it is told again only so often, ms; the first time at once. */
export const AGAIN_MS = 60_000

/** What is told of one delivery's counts: each kind of trouble when it begins, then summed up once a minute while it lasts. */
export class Teller {
  private readonly before: Counts
  private readonly toldAt = new Map<string, number>()

  constructor(start: Counts) {
    this.before = { ...start }
  }

  /** What is to be said now, the gravest first; only of what rose. Dropped and rejected messages are told of elsewhere. */
  tell(counts: Counts, now: number): News[] {
    return told.flatMap(([key, severity, words, hint]) => {
      const n = counts[key] - this.before[key]
      if (n <= 0) {
        this.before[key] = counts[key]
        return []
      }
      if (now - (this.toldAt.get(key) ?? Number.NEGATIVE_INFINITY) < AGAIN_MS) return []
      this.before[key] = counts[key]
      this.toldAt.set(key, now)
      return [{ severity, code: `ledger.${key}`, message: `${n} ${n === 1 ? 'message' : 'messages'} ${words}`, hint }]
    })
  }
}
