import { describe, expect, it } from 'vitest'
import type { WentWrong, Wrong } from '~/contract/wrong'
import { placeAt } from '../app/places'
import { queryOf } from '../tags/tag-address'
import { over, wayTo } from './wrong-words'

const wrong = (part: Partial<Wrong>): Wrong => ({
  severity: 'bad',
  where: 'source',
  subjectId: 'x',
  subject: 'Kiln',
  since: 1,
  cause: 'c',
  hint: '',
  ...part,
})
const went = (part: Partial<WentWrong>): WentWrong => ({
  severity: 'trouble',
  where: 'source',
  subjectId: 'x',
  subject: 'Kiln',
  code: 'source.lost',
  times: 1,
  first: 1,
  last: 1,
  cause: 'c',
  hint: '',
  ...part,
})

describe('ways from what is wrong to where it is mended', () => {
  it('lead to pages that exist', () => {
    for (const where of ['source', 'tag', 'equipment', 'publication', 'destination', 'witness', 'outbox', 'credential', 'ledger'] as const)
      for (const subjectId of ['x', null]) expect(placeAt(new URL(wayTo(wrong({ where, subjectId }))!.href, 'http://x').pathname)).not.toBeNull()
    expect(wayTo(wrong({ where: 'database' }))).toBeNull()
  })

  it('lead to just the tags that are meant', () => {
    const tags = { sourceId: 's', folder: 'Clay Prep/Probe 3', kind: 'stale' as const }
    const many = wayTo(wrong({ where: 'tag', subjectId: null, tags }))!
    expect(queryOf(new URL(many.href, 'http://x').searchParams)).toMatchObject({ sourceId: 's', folder: 'Clay Prep/Probe 3', kind: 'stale' })
    expect(wayTo(went({ where: 'tag', subjectId: null, subject: 'Dryer 5' }))!.href).toBe('/tags?q=Dryer+5')
    expect(wayTo(went({ where: 'tag', subjectId: null, subject: '3 of 9 tags: a, b, c' }))!.href).toBe('/tags')
    expect(wayTo(wrong({ where: 'tag', subjectId: 't', tags }))).toEqual({ href: '/tags?tag=t', label: 'Look at the tag' })
  })

  it('what is wrong now is not told again as over', () => {
    const hour = [
      went({}),
      went({ subjectId: 'y' }),
      went({ where: 'destination', subjectId: 'd' }),
      went({ where: 'tag', subjectId: null, subject: 'A' }),
    ]
    const now = [wrong({}), wrong({ where: 'witness', subjectId: 'd' }), wrong({ where: 'tag', subjectId: null, subject: 'B' })]
    expect(over(hour, now)).toEqual([hour[1], hour[3]])
    expect(over(hour, [wrong({ where: 'tag', subjectId: 't1', subject: 'A' })])).toEqual(hour.slice(0, 3))
  })
})
