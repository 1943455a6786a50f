import { describe, expect, it } from 'vitest'
import type { Condition } from '~/contract/live'
import { Status } from '../value/quality'
import { recentOf } from './recent'
import { answerOf, hopsOf, waySentence, worth } from './way'
import type { DestinationFact, SpeakingFact, TagFact, WayFacts } from './way-facts'

const NOW = 1_000_000_000
const condition = (state: Condition['state'], reason: string): Condition => ({
  state,
  reason,
  hint: `mend ${reason}`,
  since: NOW - 60_000,
  rate: 0,
  last: null,
})
const source = (id: string, c: Condition | null = condition('running', 'connected')) => ({ id, name: `Source ${id}`, condition: c })
const tag = (name: string, status: number = Status.good, part: Partial<TagFact> = {}): TagFact => ({
  ...{ id: name, name, sourceId: 'a', status, note: '', seen: NOW - 500 },
  ...part,
})
const speaking: SpeakingFact = {
  ...{ trigger: { kind: 'change' }, since: NOW - 3_600_000, last: NOW - 1000, ready: 2, messages: 2, holding: null, next: null, news: false },
  ...{ failing: null, steps: [], stepTrouble: null, unanswered: [] },
}
const destination: DestinationFact = {
  ...{ id: 'd', name: 'Works broker', enabled: true, condition: condition('running', 'TLS 1.3'), connected: true, unansweredMs: null },
  ...{ waiting: 0, bytes: 0, cap: 1e6, aside: null, witness: 'there', witnessCondition: null },
}
const none = { confirmed: 0, late: 0, disordered: 0, doubled: 0, altered: 0, missing: 0, dropped: 0, rejected: 0, unknown: 0 }
const recent = (part: Partial<typeof none> & { produced: number }) => recentOf([{ ...none, start: NOW - 20_000, ...part }], NOW - 300_000)
const facts = (part: Partial<WayFacts> = {}): WayFacts => ({
  ...{ now: NOW, sources: [source('a')], tags: [tag('n')], filled: null, speaking, store: null, destination },
  publication: { id: 'p', name: 'Kiln zones', state: 'live', off: false, version: 3, broken: null },
  recent: recent({ produced: 10, confirmed: 10 }),
  ...part,
})
const spoken = (part: Partial<SpeakingFact>) => facts({ speaking: { ...speaking, ...part } })
const at = (part: Partial<DestinationFact>, more: Partial<WayFacts> = {}) => facts({ destination: { ...destination, ...part }, ...more })
function answer(f: WayFacts): string {
  const hops = hopsOf(f)
  const i = answerOf(hops)
  return i === null ? 'nothing' : `${hops[i]!.hop} ${hops[i]!.state}`
}

const trouble = condition('trouble', 'The broker hung up')

describe('the hop that answers', () => {
  it.each<[string, WayFacts, string, RegExp]>([
    ['all is well', facts(), 'nothing', /^Nothing is in the way/],
    ['the source is off', facts({ sources: [source('a', condition('off', 'switched off'))] }), 'source stops', /Source a: switched off/],
    ['the source is in trouble', facts({ sources: [source('a', trouble)] }), 'source stops', /hung up/],
    ['the source runs nowhere', facts({ sources: [source('a', null)] }), 'source stops', /does not run/],
    ['one source of two', facts({ sources: [source('a'), source('b', trouble)] }), 'source part', /A part of it stops at the source Source b/],
    ['all tags are bad', facts({ tags: [tag('n', Status.nodeUnknown)] }), 'tag stops', /tag n: address unknown/],
    ['one tag is silent', facts({ tags: [tag('n'), tag('m', Status.stale)] }), 'tag part', /1 of 2 .*\(m\): stale/],
    ['an uncertain tag gets past', facts({ tags: [tag('n', Status.substitute)] }), 'nothing', /^Nothing/],
    [
      'a tag in the words of its device',
      facts({ tags: [tag('n', Status.timeout, { note: 'Unit 3 does not answer' })] }),
      'tag stops',
      /Unit 3 does not/,
    ],
    ['no member is filled from it', facts({ filled: [] }), 'member stops', /No member of any equipment/],
    ['an expression has no answer', spoken({ unanswered: ['Kiln 1 share'] }), 'member part', /Kiln 1 share/],
    ['nothing sends it', facts({ publication: null, speaking: null, filled: ['Kiln n'] }), 'publication stops', /No publication that is live/],
    ['a draft', facts({ publication: { ...facts().publication!, state: 'draft' }, speaking: null }), 'publication stops', /never gone live/],
    ['not taken up yet', facts({ speaking: null }), 'publication stops', /Version \d+ is live, and does not run yet/],
    ['paused', facts({ publication: { ...facts().publication!, state: 'paused' }, speaking: null }), 'publication stops', /paused/],
    ['a clause that is off', facts({ publication: { ...facts().publication!, off: true } }), 'publication stops', /switched off/],
    [
      'it cannot run',
      facts({
        publication: {
          ...facts().publication!,
          broken: { failure: { code: 'x', message: 'of a later version', hint: 'go live', where: 'publication' }, since: 1 },
        },
      }),
      'publication stops',
      /can't run: of a later version/,
    ],
    ['no first values', spoken({ ready: 0 }), 'trigger stops', /first values of all 2 messages/],
    ['some have no first values', spoken({ ready: 1 }), 'trigger part', /1 of 2 messages wait/],
    ['by hand', spoken({ trigger: { kind: 'hand' } }), 'trigger waits', /by hand only/],
    ['no condition holds', spoken({ trigger: { kind: 'when', condition: 'n > 1.0', on: 'begin' }, holding: 0 }), 'trigger waits', /holds for none/],
    ['a condition that holds', spoken({ trigger: { kind: 'when', condition: 'n > 1.0', on: 'begin' }, holding: 1 }), 'nothing', /^Nothing/],
    ['a schedule', spoken({ trigger: { kind: 'schedule', cron: '', zone: '' }, last: null, next: NOW + 7_200_000 }), 'trigger waits', /next in 2 h/],
    ['nothing moves', spoken({ last: NOW - 60_000 }), 'trigger waits', /none has moved beyond its deadband/],
    [
      'nothing comes',
      facts({ speaking: { ...speaking, last: NOW - 100 }, tags: [tag('n', Status.good, { seen: NOW - 90_000 })] }),
      'nothing',
      /^Nothing/,
    ],
    [
      'nothing has come for long',
      facts({ speaking: { ...speaking, last: NOW - 60_000 }, tags: [tag('n', Status.good, { seen: NOW - 90_000 })] }),
      'trigger waits',
      /No value has come in/,
    ],
    [
      'no equipment joins, though values move',
      spoken({ trigger: { kind: 'event', of: 'joined' }, last: NOW - 60_000, news: true }),
      'trigger waits',
      /No equipment has joined/,
    ],
    [
      'no record changes',
      spoken({ trigger: { kind: 'event', of: 'record' }, last: NOW - 60_000, news: true }),
      'trigger waits',
      /No record has changed/,
    ],
    ['a beat needs no news', spoken({ trigger: { kind: 'every', seconds: 600 }, last: NOW - 60_000 }), 'nothing', /^Nothing/],
    [
      'a step holds back all',
      spoken({ steps: [{ step: 0, name: 'Keep if', passed: 0, held: 9 }] }),
      'step stops',
      /step 1 has held back all 9 messages/,
    ],
    ['a step holds back some', spoken({ steps: [{ step: 0, name: 'Keep if', passed: 1, held: 9 }] }), 'nothing', /^Nothing/],
    ['a step fails', spoken({ stepTrouble: { count: 3, words: 'step 1, Script: no' } }), 'step stops', /3 messages did not get through/],
    ['messages cannot be made', spoken({ failing: { messages: 2, words: 'no octets' } }), 'message stops', /can't be made: no octets/],
    ['one cannot be made', spoken({ failing: { messages: 1, words: 'no octets' } }), 'message part', /1 of 2 can't be made/],
    [
      'the database is away',
      facts({ store: { message: 'The database is away', hint: '', since: 1 }, recent: null }),
      'outbox stops',
      /Database: The database is away/,
    ],
    ['the outbox is full', at({ bytes: 990_000, waiting: 5 }), 'outbox part', /full, so that the oldest are dropped; 5 messages waiting/],
    ['some were dropped', facts({ recent: recent({ produced: 10, confirmed: 4, dropped: 6 }) }), 'outbox part', /6 of the last 10 were dropped/],
    ['the destination is off', at({ enabled: false, condition: condition('off', 'switched off') }), 'connection stops', /switched off/],
    ['not connected', at({ connected: false, condition: trouble }), 'connection stops', /hung up/],
    ['connecting', at({ connected: false, condition: condition('starting', 'connecting') }), 'connection stops', /connecting/],
    ['it takes nothing', at({ condition: condition('trouble', 'takes nothing') }), 'destination stops', /takes nothing/],
    [
      'all went aside',
      at({ aside: { at: NOW - 9, count: 4, message: 'not allowed', hint: '' } }, { recent: recent({ produced: 4, rejected: 4 }) }),
      'destination stops',
      /4 messages went aside of late: not allowed/,
    ],
    ['some went aside', at({ aside: { at: NOW - 9, count: 4, message: 'not allowed', hint: '' } }), 'destination part', /went aside/],
    ['it does not answer', at({ unansweredMs: 8000 }), 'destination part', /has not answered to a message for 8.0 s/],
    ['nobody reads there', at({ witness: 'none' }), 'witness unknown', /nobody reads the far end/],
    ['the witness is away', at({ witness: 'away', witnessCondition: trouble }), 'witness unknown', /nobody can say what arrives: The broker hung up/],
    ['all are missing', facts({ recent: recent({ produced: 10, missing: 10 }) }), 'witness stops', /10 of the last 10 were acknowledged and did not/],
    ['some are missing', facts({ recent: recent({ produced: 10, missing: 1, confirmed: 9 }) }), 'witness part', /1 of the last 10/],
    ['some are altered', facts({ recent: recent({ produced: 10, altered: 1, confirmed: 9 }) }), 'witness part', /another payload/],
    ['what was made while it was away', facts({ recent: recent({ produced: 10, unknown: 10 }) }), 'witness unknown', /what became of them/],
    [
      'of some nobody can say',
      facts({ recent: recent({ produced: 10, unknown: 4, confirmed: 6 }) }),
      'witness unknown',
      /of 4 of the last 10 nobody/,
    ],
    [
      'none was seen, and it is too early',
      facts({ recent: recentOf([{ ...none, start: NOW - 60_000, produced: 10 }], NOW - 300_000) }),
      'witness unknown',
      /none of the last 10 was seen yet/,
    ],
    ['none was seen just now', facts({ recent: recentOf([{ ...none, start: NOW - 5000, produced: 10 }], NOW - 300_000) }), 'nothing', /^Nothing/],
    ['nothing was made', facts({ recent: recent({ produced: 0 }) }), 'nothing', /^Nothing/],
  ])('%s', (_, f, hop, words) => {
    expect(answer(f)).toBe(hop)
    const hops = hopsOf(f)
    expect(waySentence({ hops, at: answerOf(hops) })).toMatch(words)
    // Whatever is not as it should be says what to do, or that nothing is to be done.
    for (const h of hops) expect(h.words).not.toBe('')
  })

  it('what stops all is told before what stops a part, and that before what only waits', () => {
    expect(answer(at({ connected: false, condition: trouble }, { tags: [tag('n'), tag('m', Status.stale)] }))).toBe('connection stops')
    expect(answer(facts({ speaking: { ...speaking, trigger: { kind: 'hand' } }, tags: [tag('n'), tag('m', Status.stale)] }))).toBe('tag part')
    expect(answer(at({ witness: 'none' }, { speaking: { ...speaking, trigger: { kind: 'hand' } } }))).toBe('trigger waits')
  })

  it('of a source that is away its tags are not judged', () => {
    const hops = hopsOf(facts({ sources: [source('a', trouble)], tags: [tag('n', Status.noCommunication)] }))
    expect(hops.slice(0, 2).map((h) => h.state)).toEqual(['stops', 'unknown'])
  })

  it('ways are in an order by what they say', () => {
    const way = (f: WayFacts) => ({ hops: hopsOf(f), at: answerOf(hopsOf(f)) })
    const ranks = [at({ enabled: false }), spoken({ ready: 1 }), spoken({ trigger: { kind: 'hand' } }), at({ witness: 'none' }), facts()].map((f) =>
      worth(way(f)),
    )
    expect(ranks).toEqual([0, 1, 2, 3, 4])
  })
})
