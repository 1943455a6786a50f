import { expect, it } from 'vitest'
import { Pace, Trigger } from '~/contract/trigger'
import { freshTrigger, paceWords, spanWords, triggerWords } from './words'

it.each<[number, string]>([
  [0.5, '0.5 s'],
  [60, '1 min'],
  [90, '90 s'],
  [7200, '2 h'],
  [86_400, '1 d'],
  [Number.NaN, '? s'],
])('%d s is %s', (seconds, words) => expect(spanWords(seconds)).toBe(words))

it.each<[Trigger, string]>([
  [{ kind: 'change' }, "on change beyond each tag's deadband"],
  [{ kind: 'change', deadband: { kind: 'absolute', size: 0 } }, 'on change of anything'],
  [{ kind: 'change', deadband: { kind: 'range', percent: 2 } }, 'on change beyond 2 % of its range'],
  [{ kind: 'every', seconds: 60, aligned: true, phaseS: 5 }, 'every 1 min, on the clock and 5 s'],
  [{ kind: 'when', condition: 'temp > 100', until: 'temp < 80', holdS: 10, on: 'begin' }, 'once temp > 100 holds for 10 s, until temp < 80'],
  [{ kind: 'when', condition: '', on: 'while' }, 'on change while ... holds'],
  [{ kind: 'schedule', cron: '0 6 * * *', zone: 'UTC' }, 'at 0 6 * * * in UTC'],
  [{ kind: 'event', of: 'value' }, 'whenever a value comes in'],
  [{ kind: 'event', of: 'value', member: 'batch.number' }, 'whenever batch.number comes in'],
  [{ kind: 'event', of: 'record' }, 'whenever a record changes'],
  [{ kind: 'event', of: 'joined' }, 'once for each equipment that joins'],
  [{ kind: 'hand' }, 'by hand only'],
])('%j reads as %s', (trigger, words) => expect(triggerWords(trigger)).toBe(words))

it.each<[Pace, string]>([
  [{}, ''],
  [{ first: true }, ''],
  [{ first: false }, 'not at first'],
  [{ mostS: 1, leastS: 600 }, 'at most every 1 s, at least every 10 min'],
])('a pace of %j reads as "%s"', (pace, words) => expect(paceWords({ kind: 'change' }, pace)).toBe(words))

it('a trigger as it begins can be saved, but for what has to be typed', () => {
  for (const kind of ['change', 'every', 'event', 'schedule', 'hand'] as const)
    expect(Trigger.safeParse(freshTrigger(kind, 'UTC')).success).toBe(true)
  const typed = Trigger.safeParse(freshTrigger('when', 'UTC'))
  expect(typed.error?.issues[0]).toMatchObject({ path: ['condition'], message: 'What has to hold?' })
  expect(Pace.safeParse({ mostS: 10, leastS: 5 }).error?.issues[0]?.path).toEqual(['leastS'])
})
