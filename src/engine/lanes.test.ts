import { describe, expect, it } from 'vitest'
import type { Condition, LiveFrames } from '~/contract/live'
import { asOne } from './lanes'

type Figures = LiveFrames['destinations'][string]
const condition = (state: Condition['state'], more: Partial<Condition> = {}): Condition => ({
  state,
  reason: `${state} here`,
  hint: '',
  since: 1,
  rate: 0,
  last: null,
  ...more,
})
const figures = (sender: Condition, more: Partial<Figures> = {}): Figures => ({
  sender,
  witness: condition('running'),
  waiting: 0,
  bytes: 0,
  capBytes: 100,
  ...more,
})

describe('a destination and the nodes that speak there', () => {
  it('shows its own connection where nobody else speaks', () => {
    const own = figures(condition('running', { rate: 5 }))
    expect(asOne(own, [])).toBe(own)
  })

  it('adds up what flows and waits', () => {
    const own = figures(condition('running', { rate: 5, last: 10 }), { waiting: 2, bytes: 20 })
    const node = figures(condition('running', { rate: 3, last: 30 }), { waiting: 4, bytes: 7 })
    expect(asOne(own, [{ who: 'node pit/kiln', figures: node }])).toMatchObject({
      sender: { state: 'running', rate: 8, last: 30 },
      waiting: 6,
      bytes: 27,
      capBytes: 200,
    })
  })

  it('is in trouble with one of its nodes, and says whose trouble it is', () => {
    const node = figures(condition('trouble', { reason: 'not authorised', hint: 'Ask for it' }))
    expect(asOne(figures(condition('running')), [{ who: 'node pit/kiln', figures: node }]).sender).toMatchObject({
      state: 'trouble',
      reason: 'node pit/kiln: not authorised',
      hint: 'Ask for it',
    })
  })

  it('says its own trouble before that of a node', () => {
    const node = figures(condition('trouble', { reason: 'refused' }))
    expect(asOne(figures(condition('trouble', { reason: 'no route' })), [{ who: 'node n', figures: node }]).sender.reason).toBe('no route')
  })

  it('is well though a node does not speak, whose messages are counted all the same', () => {
    const still = figures(condition('off', { reason: 'its node is not live' }), { waiting: 9, witness: condition('trouble') })
    const one = asOne(figures(condition('running')), [{ who: 'node n', figures: still }])
    expect(one).toMatchObject({ sender: { state: 'running' }, witness: { state: 'running' }, waiting: 9 })
  })

  it('is off when it is switched off, whatever its nodes do yet', () => {
    expect(asOne(figures(condition('off')), [{ who: 'node n', figures: figures(condition('starting')) }]).sender.state).toBe('off')
  })
})
