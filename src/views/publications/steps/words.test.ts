import { describe, expect, it } from 'vitest'
import { Step } from '~/contract/step'
import { reachWords } from '../preflight/words'
import { fieldWords, settingWords } from '../setting-words'
import { costWords, freshStep, stepEffects, stepOffers, stepsSentence, stepWords } from './words'

describe('steps in words', () => {
  it.each([
    [{ kind: 'keep', condition: 'temperature > 80.0' }, 'temperature > 80.0'],
    [{ kind: 'set', member: 'deviation', expression: 'temperature - setpoint', unit: 'K' }, 'deviation = temperature - setpoint in K'],
    [{ kind: 'rename', member: 'a', to: 'b' }, 'a to b'],
    [{ kind: 'leave', members: ['a', 'b'], but: true }, 'all but a, b'],
    [{ kind: 'convert', member: 'a', unit: '°F', dataType: 'integer' }, 'a to °F, integer'],
    [
      {
        kind: 'record',
        member: 'order',
        sourceId: '01890000-0000-7000-8000-000000000001',
        at: '',
        key: '',
        columns: [{ name: 'customer', dataType: 'text', unit: '' }],
      },
      'order in the rows of a source: customer',
    ],
    [{ kind: 'lookup', member: 'a', table: { columns: ['a', 'b', 'c'], rows: [['1', '2', '3']] } }, 'a in a table of 1 row: b, c'],
    [{ kind: 'smooth', members: ['a'], seconds: 120 }, 'a over 2 min'],
    [{ kind: 'bridge', members: ['a'], by: 'line', seconds: 5 }, 'of a along the line of the last two, up to 5 s'],
    [{ kind: 'split', member: 'zones' }, 'zones, a message for each item'],
    [{ kind: 'window', seconds: 60, by: 'average' }, '1 min: numbers become their average'],
    [
      { kind: 'window', seconds: 60, by: 'each', messages: 10, key: 'batch' },
      '1 min or 10 messages, apart by batch: all become lists of all of them',
    ],
    [{ kind: 'script', code: '// what it is for\nmessage.a = 1\nreturn message' }, '2 lines: message.a = 1'],
    [{ kind: 'script', code: 'return message' }, 'return message'],
    [{ kind: 'repeats' }, 'what says the same as the message before it'],
  ] as const)('%j', (step, words) => {
    expect(stepWords(Step.parse(step))).toBe(words)
  })

  it('say what is missing while they are begun, and every kind has its effect told', () => {
    for (const { kind } of stepOffers) {
      const fresh = freshStep(kind)
      expect(fresh.kind).toBe(kind)
      expect(stepWords(fresh)).not.toBe('')
      expect(stepEffects[kind]).not.toBe('')
    }
    expect(stepWords(freshStep('set'))).toBe('... = ...')
    expect(stepOffers).toHaveLength(Object.keys(stepEffects).length)
  })

  it('are one sentence', () => {
    expect(stepsSentence([freshStep('repeats'), Step.parse({ kind: 'rename', member: 'a', to: 'b' })])).toBe(
      'drop repeats what says the same as the message before it, then rename a to b',
    )
  })

  it.each([
    [0.4213, '0.42 µs'],
    [999, '1000 µs'],
    [1284, '1.3 ms'],
  ])('%d µs is %s', (us, words) => {
    expect(costWords(us)).toBe(words)
  })
})

describe('settings in words', () => {
  it.each([
    ['trigger.kind', 'setting', 'When: trigger'],
    ['steps.1.condition', 'setting', 'Step 2, condition'],
    ['steps.0', 'setting', 'Step 1'],
    ['shape.members', 'setting', 'Shape, members'],
    ['address.partitions', 'setting', 'Address, partitions'],
    ['Zone 1', 'unit', 'Zone 1'],
  ] as const)('%s', (what, kind, words) => {
    expect(settingWords({ what, kind })).toBe(words)
  })
  it('names of objects are no words', () => {
    expect(settingWords({ what: 'unknown.field', kind: 'setting' })).toBe('unknown.field')
    expect(fieldWords.name).toBe('Name')
  })
})

describe('reach in words', () => {
  it.each([
    [{ perSecond: null, octets: 10, hours: null }, ''],
    [{ perSecond: 2, octets: null, hours: null }, '2 messages a second'],
    [{ perSecond: 0.5, octets: 214, hours: 9 }, '30 messages a minute of 214 octets; the outbox holds 9 h at this rate'],
    [{ perSecond: 1500, octets: 214, hours: 0.2 }, '1,500 messages a second of 214 octets; the outbox holds 12 min at this rate'],
    [{ perSecond: 2, octets: 214, hours: null, recordedS: 600 }, '2 messages a second of 214 octets, by what its tags did in the last 10 min'],
    [{ perSecond: 1, octets: 214, hours: 72 }, '1 message a second of 214 octets; the outbox holds 3 d at this rate'],
  ])('%j', (reach, words) => {
    expect(reachWords(reach)).toBe(words)
  })
})
