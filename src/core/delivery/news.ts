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
    'missing: they went out, and the witness did not see them in time',
    'Between the destination and its readers: its log, its queues, a bridge behind it',
  ],
  [
    'altered',
    'trouble',
    'altered: arrived with another payload or topic than was sent',
    'Somebody between rewrites messages: a bridge, a rule, a faulty destination',
  ],
  [
    'foreign',
    'warning',
    'foreign: on topics of this publication, and not sent by it',
    'Another sender writes there: give it other topics, or take its permission',
  ],
  [
    'disordered',
    'warning',
    'disordered: arrived after a later one that they are in order with',
    'Whoever reads these topics must go by the time in the payload',
  ],
  ['unknown', 'warning', 'unknown: the witness was away for too long to say', 'Look why the witness was away'],
  ['late', 'note', 'late', ''],
  ['doubled', 'note', 'doubled: sent again because an acknowledgement was lost, or repeated on the way', ''],
] as const

/** What is known of a delivery beside its counts. */
export interface About {
  /** What to look at when nothing of it arrives any more. */
  nothingArrives: string
  /** Set when messages come on another topic than they were sent to. */
  elsewhere: string | null
}

const unknownAbout: About = { nothingArrives: told[0][3], elsewhere: null }

const takenBack = (n: number): News => ({
  severity: 'good',
  code: 'ledger.arrived',
  message: `${n} ${n === 1 ? 'message' : 'messages'} told as missing arrived after all, late`,
  hint: '',
})

/** While something goes on, it is told again only so often, ms; the first time at once. */
export const AGAIN_MS = 60_000

/** What is told of one delivery's counts: each kind of trouble when it begins, then summed up once a minute while it lasts. */
export class Teller {
  private readonly before: Counts
  private readonly toldAt = new Map<string, number>()
  private arrived: number
  /** How many the destination had acknowledged when something arrived last. */
  private acknowledged: number

  constructor(start: Counts) {
    this.before = { ...start }
    this.arrived = start.arrived
    this.acknowledged = start.acknowledged
  }

  /** Whether so many and more were acknowledged, and nothing arrived since. */
  private nothingArrives(counts: Counts, n: number): boolean {
    return counts.arrived === this.arrived && n > 1 && counts.acknowledged - this.acknowledged >= n
  }

  /** What is to be said now, the gravest first; only of what rose. Dropped and rejected messages are told of elsewhere. */
  tell(counts: Counts, now: number, about: About = unknownAbout): News[] {
    if (counts.arrived !== this.arrived) {
      this.arrived = counts.arrived
      this.acknowledged = counts.acknowledged
    }
    return told.flatMap(([key, severity, words, plain]) => {
      let hint: string = plain
      const n = counts[key] - this.before[key]
      if (n <= 0) {
        this.before[key] = counts[key]
        // What was said is taken back as soon as it is not true any more.
        return key === 'missing' && n < 0 ? [takenBack(-n)] : []
      }
      if (now - (this.toldAt.get(key) ?? Number.NEGATIVE_INFINITY) < AGAIN_MS) return []
      this.before[key] = counts[key]
      this.toldAt.set(key, now)
      if (key === 'missing' && this.nothingArrives(counts, n)) hint = about.elsewhere ?? about.nothingArrives
      if (key === 'altered' && about.elsewhere) hint = about.elsewhere
      return [{ severity, code: `ledger.${key}`, message: `${n} ${n === 1 ? 'message' : 'messages'} ${words}`, hint }]
    })
  }
}
