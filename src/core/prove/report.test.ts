import { describe, expect, it } from 'vitest'
import { ProofPlan, ProofReport } from '~/contract/prove'
import { runDifferences } from './compare'
import { htmlOf } from './html'
import { junitOf } from './junit'
import { noCounts } from './measure'

const ID = '01890000-0000-7000-8000-000000000001'
const report = (part: Partial<ProofReport> = {}): ProofReport =>
  ProofReport.parse({
    ...{ format: 'embrik proof report 1', id: ID, name: 'Acceptance', by: 'ines', outcome: 'held', why: '' },
    ...{ startedAt: '2026-12-01T03:00:00.000Z', endedAt: '2026-12-01T03:01:00.000Z', seconds: 60 },
    plan: ProofPlan.parse({ name: 'Acceptance', publicationIds: [ID], seconds: 60 }),
    limits: [
      { limit: 'missing', of: 0, measured: 0, outcome: 'held', words: '0 missing messages, at most 0 are allowed' },
      { limit: 'p99Ms', of: 50, measured: 80, outcome: 'broken', words: '99 of 100 arrived within 80 ms, 50 ms are allowed' },
      { limit: 'recoveredS', of: 5, measured: null, outcome: 'unproven', words: 'there was no fault to recover from' },
    ],
    counts: { ...noCounts(), produced: 60, confirmed: 60 },
    latency: { p50: 10, p95: 40, p99: 80, max: 90, count: 60 },
    curve: [
      { atS: 0, p50: 10, p99: 20, max: 20, count: 30 },
      { atS: 30, p50: 12, p99: 80, max: 90, count: 30 },
    ],
    deliveries: [
      {
        ...{ publication: 'Kiln <b>"zones" & more', version: 3, planSha256: 'ab', destination: 'Site broker', witnessed: true, first: 1, last: 60 },
        ...{ counts: { ...noCounts(), produced: 60, confirmed: 60 }, latency: null },
      },
    ],
    faults: [{ destination: 'Site broker', words: 'Site broker cut off for 5 s', atS: 10, forS: 5, connections: 2, begun: true, recoveredS: null }],
    load: { multiple: 10, tags: 4 },
    destinations: [{ name: 'Site broker', kind: 'mqtt', version: 2, address: '127.0.0.1:8883', certificates: [{ use: 'own', sha256: 'cd' }] }],
    clocks: [{ kind: 'database', id: null, name: 'Database', how: 'time of its server', offsetMs: 1.4, withinMs: 0.2, at: 1 }],
    environment: { installation: 'a1', node: 'edge', embrik: '0.1.0', runtime: 'node', system: 'linux', processors: 2, memoryMb: 100 },
    ...part,
  })

describe('a report as a page', () => {
  const page = htmlOf(report({ why: '<script>alert(1)</script>' }), { fingerprint: 'AA:BB', command: "openssl dgst -sha256 -verify 'plant-key.pem'" })
  it('holds all that was found, and nothing that a name could bring in', () => {
    for (const words of [
      '99 of 100 arrived within 80 ms',
      'Site broker cut off for 5 s',
      '4 simulated tags at 10 times their pace',
      'AA:BB',
      'not well again within the run',
      '<svg',
    ])
      expect(page).toContain(words)
    expect(page).not.toContain('<script')
    expect(page).not.toContain('<b>"zones"')
    expect(page).toContain('Kiln &lt;b&gt;&quot;zones&quot; &amp; more')
  })
  it('stands alone', () => {
    expect(page).not.toMatch(/(?:src|href)=|url\(|@import/)
  })
  it('of a run in which nothing arrived is one too', () => {
    expect(htmlOf(report({ curve: [], latency: null, limits: [], faults: [] }), { fingerprint: '', command: '' })).toContain(
      'No limit was to be held.',
    )
  })
})

describe('a report as test results', () => {
  it('has a case for each limit: broken fails, unproven is skipped', () => {
    const xml = junitOf(report({ name: 'A & <B> "C"\u0000\ud800' }))
    expect(xml).toContain('tests="3" failures="1" errors="0" skipped="1"')
    expect(xml).toContain('<failure message="99 of 100 arrived within 80 ms, 50 ms are allowed"/>')
    expect(xml).toContain('<skipped message="there was no fault to recover from"/>')
    expect(xml).toContain('name="A &amp; &lt;B&gt; &quot;C&quot;\ufffd\ufffd"')
  })
  it('of a run that did not come to its end has an error', () => {
    const xml = junitOf(report({ outcome: 'failed', why: 'the engine was started anew', limits: [] }))
    expect(xml).toContain('tests="1" failures="0" errors="1"')
    expect(xml).toContain('<error message="the engine was started anew"/>')
  })
})

describe('two runs', () => {
  it('differ in nothing where nothing is another', () => {
    expect(runDifferences(report(), report({ startedAt: '2026-12-02T03:00:00.000Z' }))).toEqual([])
  })
  it('differ in outcome, counts, latency, recovery and what was tested', () => {
    const [d] = report().deliveries
    const after = report({
      ...{
        outcome: 'broken',
        counts: { ...noCounts(), produced: 60, confirmed: 58, missing: 2 },
        latency: { p50: 5, p95: 40, p99: 90, max: 90, count: 58 },
      },
      faults: [{ ...report().faults[0]!, recoveredS: 1.5 }],
      deliveries: [
        { ...d!, version: 4, planSha256: 'xy' },
        { ...d!, publication: 'Press' },
      ],
    })
    expect(runDifferences(report(), after).map((x) => [x.what, x.before, x.after, x.better])).toEqual([
      ['Outcome', 'held', 'broken', false],
      ['Missing', '0', '2', false],
      ['Latency p50', '10 ms', '5 ms', true],
      ['Latency p99', '80 ms', '90 ms', false],
      ['Longest recovery', 'never', '1.5 s', true],
      ['Kiln <b>"zones" & more to Site broker', 'version 3', 'version 4', null],
      ['Press to Site broker', 'not in it', 'version 3', null],
    ])
    expect(runDifferences(after, report()).at(-1)).toMatchObject({ what: 'Press to Site broker', before: 'version 3', after: 'not in it' })
  })
})
