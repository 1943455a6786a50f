import { describe, expect, it } from 'vitest'
import { FaultKind, ProofOutcome, ProofPlan } from '~/contract/prove'
import { faultKinds, freshFault, freshPlan, outcomeGlyph, outcomeShort, planWords, stateOf } from './words'

describe('proof runs in words', () => {
  it.each([
    [{}, '60 s of 1 publication'],
    [{ publicationIds: ['a', 'b'], load: 10 }, '60 s of 2 publications, simulated tags at 10 times their pace'],
    [{ messages: 1000, faults: [freshFault('d', 60)] }, '60 s or 1000 messages of 1 publication, with 1 fault'],
  ])('%j', (part, words) => {
    expect(planWords({ ...freshPlan(['a']), ...part })).toBe(words)
  })

  it('every outcome and every kind of fault has its words and its state', () => {
    for (const outcome of ProofOutcome.options) {
      expect(outcomeShort[outcome]).not.toBe('')
      expect(stateOf({ outcome })).toBe(outcomeGlyph[outcome])
    }
    expect(faultKinds.map((k) => k.value).sort()).toEqual([...FaultKind.options].sort())
    expect(stateOf({ outcome: null })).toBe('uncertain')
  })

  it('a fresh plan with a fresh fault is only short of its name', () => {
    const id = '01890000-0000-7000-8000-000000000001'
    const plan = { ...freshPlan([id]), faults: [freshFault(id, 60)] }
    expect(ProofPlan.safeParse(plan).error?.issues.map((i) => i.path.join('.'))).toEqual(['name'])
    expect(ProofPlan.safeParse({ ...plan, name: 'x' }).success).toBe(true)
    expect(ProofPlan.safeParse({ ...plan, name: 'x', seconds: 5 }).error!.issues[0]!.message).toBe('The run is over after 5 s')
  })
})
