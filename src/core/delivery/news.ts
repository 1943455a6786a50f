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

/** What to tell people of when counts went from one to the other: only what rose. Dropped and rejected tell of themselves. */
export function news(before: Counts, now: Counts): News[] {
  return told.flatMap(([key, severity, words, hint]) => {
    const n = now[key] - before[key]
    return n > 0 ? [{ severity, code: `ledger.${key}`, message: `${n} ${n === 1 ? 'message' : 'messages'} ${words}`, hint }] : []
  })
}
