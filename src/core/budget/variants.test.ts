import { describe, expect, it } from 'vitest'
import { PublicationDraft } from '~/contract/publication'
import { flatJsonSettings } from '~/contract/shape'
import { overMqtt } from '../publication/over-mqtt'
import { variantsOf } from './variants'

const draft = (part: Partial<PublicationDraft> = {}): PublicationDraft => ({
  ...overMqtt({
    name: 'zones',
    equipmentIds: [],
    trigger: { kind: 'change' },
    shape: flatJsonSettings,
    topic: '{unit}',
    destinationId: '01a208ce-85ce-7000-ab1f-2ce1c1e2c52f',
  }),
  ...part,
})
const labels = (part: Partial<PublicationDraft>, kind: string) =>
  variantsOf(draft(part))
    .filter((v) => v.kind === kind)
    .map((v) => v.label)

describe('other ways to send the same', () => {
  it('each is a draft that can be saved, under a key of its own; the first is as it is', () => {
    const all = variantsOf(draft())
    expect(all[0]).toEqual({ key: 'as it is', kind: 'as it is', label: 'as it is', change: {} })
    expect(new Set(all.map((v) => v.key)).size).toBe(all.length)
    for (const v of all) expect(PublicationDraft.safeParse({ ...draft(), ...v.change }).success).toBe(true)
    expect(new Set(all.map((v) => v.kind))).toEqual(new Set(['as it is', 'deadband', 'pace', 'gathered', 'shape', 'compressed']))
  })
  it('deadbands are said as they are now', () => {
    expect(labels({}, 'deadband')[0]).toBe('change beyond 0.2 % of the value')
    expect(labels({ trigger: { kind: 'change', deadband: { kind: 'range', percent: 1 } } }, 'deadband')).toEqual(
      [0.2, 0.5, 2, 5].map((p) => `change beyond ${p} % of the range`),
    )
    expect(labels({ trigger: { kind: 'every', seconds: 5 } }, 'deadband')).toEqual([])
  })
  it('paces are slower ones only, and not slower than at least', () => {
    expect(labels({ trigger: { kind: 'every', seconds: 5 } }, 'pace')).toEqual(['every 10 s', 'every 30 s', 'every 60 s'])
    expect(labels({ pace: { mostS: 2, leastS: 30 } }, 'pace')).toEqual(['at most every 5 s', 'at most every 10 s', 'at most every 30 s'])
    expect(labels({ trigger: { kind: 'hand' } }, 'pace')).toEqual([])
  })
  it('what is gathered already is not gathered again; a compression is not its own other', () => {
    expect(labels({ steps: [{ kind: 'window', seconds: 5, by: 'last' }] }, 'gathered')).toEqual([])
    expect(labels({ shape: { ...flatJsonSettings, compression: 'gzip' } }, 'compressed')).toEqual(['zstd'])
    expect(labels({ shape: { kind: 'value' } as never }, 'shape')).toEqual([])
  })
})
