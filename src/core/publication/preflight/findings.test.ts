import { describe, expect, it } from 'vitest'
import type { Plan, Resolved } from '~/contract/publication'
import { kiln, member, planOf, type settings } from '../../shape/shape-samples'
import { Status } from '../../value/quality'
import { planWith, zone } from '../steps/step-samples'
import { clockFindings, type NamedClock } from './clock-findings'
import { contractFindings } from './contract-findings'
import { loopFindings } from './loops'
import { qualityFindings } from './quality-findings'
import { loadFindings, reachOf } from './reach'
import { unusedFindings } from './unused-findings'

const words = (all: { message: string }[]) => all.map((f) => f.message).join('; ')

describe('qualities of now', () => {
  const plan = planWith([])
  const all = (part: Record<number, number>) => (h: number) => part[h] ?? Status.good
  it.each([
    ['all good', {}, ''],
    ['simulated is told elsewhere', { 0: Status.substitute }, ''],
    ['bad', { 0: Status.communication }, 'Bad now, communication error: Zone 1 temperature'],
    ['uncertain', { 1: Status.stale }, 'Uncertain now, stale: Zone 1 setpoint'],
    ['no value yet', { 2: Status.waitingForInitialData }, 'No value yet: Zone 1 burning; their messages wait for it'],
    [
      'two reasons',
      { 0: Status.communication, 1: Status.timeout },
      'Bad now, communication error: Zone 1 temperature; Bad now, timed out: Zone 1 setpoint',
    ],
  ])('%s', (_, statuses, expected) => {
    expect(words(qualityFindings(plan, all(statuses)))).toBe(expected)
  })
  it('a tag that nobody knows has no value yet', () => {
    expect(words(qualityFindings(plan, () => undefined))).toContain('No value yet: Zone 1 temperature')
  })
  it('are found behind steps too', () => {
    const steps = planWith([
      { kind: 'set', member: 'x', expression: 'temperature + setpoint' },
      { kind: 'leave', members: ['x'], but: true },
      { kind: 'window', seconds: 5, by: 'last' },
    ])
    expect(words(qualityFindings(steps, all({ 1: Status.timeout })))).toBe('Bad now, timed out: Zone 1 x')
    expect(words(qualityFindings(steps, all({ 2: Status.timeout })))).toBe('')
  })
})

describe('what is read and goes nowhere', () => {
  const tags = ['temperature', 'setpoint', 'burning', 'program', 'cars', 'wet 0', 'wet 1', 'draught', 'oxygen'].map((name, handle) => ({
    ...{ handle, name, sourceId: 'kiln' },
  }))
  const other = { handle: 40, name: 'fan', sourceId: 'dryer' }
  const around = (used: number[]) => ({ tags: [...tags, other], used: new Set(used), sourceName: (id: string) => `the ${id}` })
  it('is told, and nobody has to accept it', () => {
    const all = unusedFindings([zone('Zone 1', 0)], planWith([{ kind: 'leave', members: ['setpoint', 'burning'] }]), around([0, 1, 2]))
    expect(words(all)).toBe('Read, and not sent: Zone 1 setpoint, Zone 1 burning; 2 tags of the kiln are used by nothing: draught, oxygen')
    expect(all.every((f) => f.told)).toBe(true)
    expect(all[1]!.mend!.href).toBe('/tags?kind=unused&source=kiln')
  })
  it('nor is what a condition, an expression or a script goes by', () => {
    const steps = planWith([
      { kind: 'keep', condition: 'burning', unknown: 'pass' },
      { kind: 'set', member: 'temperature', expression: 'temperature - setpoint' },
      { kind: 'leave', members: ['setpoint', 'burning'] },
    ])
    expect(unusedFindings([zone('Zone 1', 0)], steps, around([0, 1, 2, 7, 8]))).toEqual([])
  })
  it('of one it is said so', () => {
    expect(words(unusedFindings([zone('Zone 1', 0)], planWith([]), around([8])))).toBe('1 tag of the kiln is used by nothing: draught')
  })
})

describe('what receivers were told', () => {
  const live = planOf({ kind: 'flat-json' }, [kiln])
  const with_ = (change: Partial<(typeof kiln)['members'][number]>, shape: Parameters<typeof settings>[0] = { kind: 'flat-json' }): Plan =>
    planOf(shape, [{ ...kiln, members: kiln.members.map((m, i) => (i === 0 ? { ...m, ...change } : m)) }])
  it.each([
    ['the same', live, ''],
    ['another unit', with_({ unit: '°F' }), 'temperature is in °F now, was in °C'],
    ['another type', with_({ dataType: 'text' }), 'temperature may be string'],
    ['another name', with_({ key: 'heat' }), 'temperature is sent no more; heat is new, which the old schema does not allow'],
    ['another shape', with_({}, { kind: 'nested-json' }), 'Tunnel Kiln: readers of version'],
    ['octets', with_({}, { kind: 'cbor' }), 'Receivers expect application/json, and would get application/cbor'],
  ])('%s', (_, next, expected) => {
    const told = words(contractFindings(live, next))
    expected === '' ? expect(told).toBe('') : expect(told).toContain(expected)
  })
  it('a kind of message that goes no more', () => {
    expect(words(contractFindings(live, planOf({ kind: 'flat-json' }, [{ ...kiln, className: 'Other' }])))).toBe(
      'No messages of Tunnel Kiln would go any more',
    )
  })
  it('Avro is compared as a whole', () => {
    const avro = planOf({ kind: 'avro' }, [kiln])
    expect(contractFindings(avro, avro)).toEqual([])
    const other = planOf({ kind: 'avro' }, [{ ...kiln, members: [...kiln.members, member('more')] }])
    expect(words(contractFindings(avro, other))).toContain('another description')
  })
})

describe('clocks', () => {
  const clock = (offsetMs: number, kind: NamedClock['kind'] = 'destination', withinMs = 5): NamedClock => ({
    kind,
    id: 'x',
    name: 'Hub',
    offsetMs,
    withinMs,
  })
  it.each([
    ['in step', clock(50), '', undefined],
    ['not told more exactly', clock(900, 'destination', 1000), '', undefined],
    ['a little ahead', clock(2500), 'The clock of Hub is 2.5 s ahead of ours', true],
    ['an hour behind', clock(-3_600_000), 'The clock of Hub is 60 min behind ours', undefined],
    ['of a source', clock(-3_600_000, 'source'), 'The clock of Hub is 60 min behind ours', undefined],
  ])('%s', (_, one, expected, told) => {
    const found = clockFindings([one])
    expect(words(found)).toBe(expected)
    expect(found[0]?.told).toBe(told)
    if (found[0]) expect(found[0]).toMatchObject({ passing: true, section: one.kind === 'source' ? 'what' : 'through' })
  })
  it('say what it means', () => {
    expect(clockFindings([clock(40_000)])[0]!.hint).toBe(
      'Tokens and young certificates are refused, and latencies mean nothing: set the one right that is wrong',
    )
  })
})

describe('loops', () => {
  const to = { host: 'broker.varnmoor.test', port: 8883 }
  const source = (part: Partial<{ host: string; port: number; addresses: string[] }>) => ({
    source: 'Probes',
    ...to,
    addresses: ['varnmoor/zone-1/state#/temperature', 'probes/1'],
    ...part,
  })
  const open: Resolved = ['varnmoor/', { take: 'value', member: 0, filters: [], rule: 'slug' }, '/state']
  it.each([
    ['the same topic', ['varnmoor/zone-1/state'], {}, true],
    ['another topic', ['varnmoor/zone-2/state'], {}, false],
    ['a topic that may become it', [open], {}, true],
    ['a topic that may not', [['other/', ...(open as unknown[]).slice(1)]], {}, false],
    ['another host', ['varnmoor/zone-1/state'], { host: 'elsewhere' }, false],
    ['another port', ['varnmoor/zone-1/state'], { port: 1883 }, false],
    ['the host in capitals', ['varnmoor/zone-1/state'], { host: 'Broker.Varnmoor.TEST' }, true],
    ['an address that is none', ['varnmoor/zone-1/state'], { addresses: ['+/x', ''] }, false],
  ])('%s', (_, places, part, found) => {
    expect(loopFindings(places as Resolved[], to, [source(part)]).length > 0).toBe(found)
  })
  it('this machine by any of its names', () => {
    const here = loopFindings(['probes/1'], { host: '127.0.0.1', port: 1 }, [source({ host: 'localhost', port: 1 })])
    expect(words(here)).toBe('Probes reads probes/1 from this broker: what is sent there comes in again as values of its tags')
  })
})

describe('load and reach', () => {
  const none = { perSecond: null, perDay: null }
  it.each([
    [{ perSecond: null, octets: 200 }, none, ''],
    [{ perSecond: 0, octets: 200 }, none, ''],
    [{ perSecond: 10, octets: 200 }, none, ''],
    [{ perSecond: 10, octets: 200 }, { perSecond: 5, perDay: null }, '10 messages a second would go, Hub takes 5'],
    [{ perSecond: 1, octets: 200 }, { perSecond: null, perDay: 8000 }, '86,400 messages a day would go, Hub takes 8,000'],
    [{ perSecond: 0.01, octets: 200 }, { perSecond: 1, perDay: 8000 }, ''],
    [{ perSecond: 1000, octets: 940 }, none, 'The outbox holds 33 min at this rate, then the oldest is dropped'],
    [{ perSecond: 100, octets: 940 }, none, 'The outbox holds 5.6 h at this rate, then the oldest is dropped'],
  ])('%j against %j', (load, limits, expected) => {
    expect(words(loadFindings(reachOf(load, 2000), limits, 'Hub'))).toBe(expected)
  })
  it('reaches as long as the outbox holds messages of that size', () => {
    expect(reachOf({ perSecond: 10, octets: 440 }, 18).hours).toBe(1)
  })
})
