import { describe, expect, it } from 'vitest'
import { type SentenceContext, sentencesOf, sentenceText } from './sentences'

const context: SentenceContext = { kind: 'modbus', sourceRateMs: 500, groupRateMs: null, address: '11 30005 uint16' }
const bare: Record<string, string> = { name: 'Gas Meter 1/pressure', type: 'number', hold: 'nothing', history: 'no', clamp: 'no', access: 'read' }
const textsOf = (cells: Record<string, string>, about: Partial<SentenceContext> = {}) => {
  const all = { ...bare, ...cells }
  return Object.fromEntries(sentencesOf((key) => all[key] ?? '', { ...context, ...about }).map((s) => [s.topic, sentenceText(s)]))
}

describe('the properties of a tag as sentences', () => {
  it('say what holds where nothing is set', () =>
    expect(textsOf({})).toEqual({
      name: 'It is called Gas Meter 1/pressure: not described.',
      read: 'It reads 11 30005 uint16 as number, every 500 ms, with its source.',
      scaling: 'What is read is taken as it is, not scaled.',
      value: 'It is shown as it comes in no unit.',
      deadband: 'Every change counts.',
      range: 'Any value is expected.',
      hold: 'After a start it stands without a value until the device answers; before its first value nothing stands for it.',
      history: 'Its past is not kept.',
      access: 'It may be read, not written.',
      chart: 'Charts show it as far as its values go, in straight lines.',
    }))
  it('say what is set, with units', () =>
    expect(
      textsOf({
        unit: 'bar',
        raw_low: '0',
        raw_high: '27648',
        scaled_low: '0',
        scaled_high: '100',
        clamp: 'yes',
        deadband: '0.5',
        low: '3.5',
        high: '4.5',
        history: 'yes',
        history_deadband: '1 %',
        history_min_ms: '1000',
        history_max_ms: '600000',
        hold: 'machine',
        initial: '4',
        access: 'read-write',
      }),
    ).toMatchObject({
      scaling: 'Raw 0 to 27648 is 0 to 100 bar; what lies outside is held at the end, marked uncertain.',
      deadband: 'A change counts beyond 0.5 bar.',
      range: 'Expected is 3.5 to 4.5 bar; outside of it the tag is listed as out of range.',
      history: 'It is to be kept on a change beyond 1 % of its range, at most every 1 s, at least every 10 min.',
      hold: 'After a start it stands with its last value until the device answers; before its first value 4 bar stands for it.',
      access: 'It may be read and written.',
    }))
  it.each([
    ['its own rate', { rate_ms: '250' }, {}, 'every 250 ms, at its own rate.'],
    ['its group', { group: 'fast' }, { groupRateMs: 1000 }, 'every 1 s, with the group fast.'],
    ['a source that speaks', {}, { kind: 'mqtt' as const, sourceRateMs: null }, 'as number, whenever its source speaks.'],
  ])('tell %s', (_what, cells, about, end) => expect(textsOf(cells, about).read).toMatch(new RegExp(`${end.replaceAll('.', '\\.')}$`)))
  it('show what is typed as it is typed, also when it is no number', () =>
    expect(textsOf({ deadband: 'x', rate_ms: 'often', low: '3' })).toMatchObject({
      deadband: 'A change counts beyond x.',
      range: 'Expected is 3 to ?; outside of it the tag is listed as out of range.',
    }))
  it('a text has no scaling, deadband, range or chart', () =>
    expect(Object.keys(textsOf({ type: 'text' }))).toEqual(['name', 'read', 'value', 'hold', 'history', 'access']))
  it('every word opens columns that exist, and each column is in one sentence only', () => {
    const words = sentencesOf((key) => ({ ...bare, history: 'yes' })[key] ?? '', context).flatMap((s) =>
      s.pieces.filter((p) => typeof p !== 'string'),
    )
    const keys = words.flatMap((w) => (typeof w === 'string' ? [] : w.keys))
    expect(new Set(keys).size).toBe(keys.length)
  })
})
