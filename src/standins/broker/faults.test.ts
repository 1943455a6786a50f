import { describe, expect, it } from 'vitest'
import { delayed } from '../delayed'
import { BrokerFaults, type Fate, Faults } from './faults'

const fates = (settings: Partial<BrokerFaults>, n = 20_000, client = 'reader') => {
  const faults = new Faults()
  faults.set(BrokerFaults.parse(settings))
  return Array.from({ length: n }, () => faults.fate(client))
}
const share = (list: Fate[], fate: Fate) => list.filter((f) => f === fate).length / list.length

describe('faults by chance', () => {
  it('come as often as asked for, and one at a time', () => {
    const list = fates({ seed: 7, drop: 0.1, double: 0.05, delay: 0.2, reorder: 0.02, alter: 0.03 })
    for (const [fate, wanted] of [
      ['dropped', 0.1],
      ['doubled', 0.05],
      ['delayed', 0.2],
      ['reordered', 0.02],
      ['altered', 0.03],
      ['delivered', 0.6],
    ] as const)
      expect(Math.abs(share(list, fate) - wanted)).toBeLessThan(0.015)
  })

  it('are the same for the same seed, others for another', () => {
    const settings = { drop: 0.3, double: 0.3 }
    expect(fates({ ...settings, seed: 3 }, 200)).toEqual(fates({ ...settings, seed: 3 }, 200))
    expect(fates({ ...settings, seed: 3 }, 200)).not.toEqual(fates({ ...settings, seed: 4 }, 200))
  })

  it('hit only the client that was named, and none when none is set', () => {
    expect(share(fates({ drop: 1, client: 'reader' }), 'dropped')).toBe(1)
    expect(share(fates({ drop: 1, client: 'other' }), 'delivered')).toBe(1)
    expect(share(fates({}), 'delivered')).toBe(1)
  })

  it('an altered payload differs, in one octet', () => {
    const faults = new Faults()
    const payload = Buffer.from('{"n":1,"value":689.6}')
    for (let i = 0; i < 100; i++) {
      const altered = faults.altered(payload)
      expect(altered.length).toBe(payload.length)
      expect([...altered].filter((b, at) => b !== payload[at]).length).toBe(1)
    }
    expect(faults.altered(Buffer.alloc(0)).length).toBe(1)
  })

  it.each([{ drop: 2 }, { drop: -0.1 }, { slowMs: 1e9 }, { nonsense: 1 }])('refuse %j', (settings) => {
    expect(BrokerFaults.safeParse(settings).success).toBe(false)
  })
})

it('what is slowed keeps its order, also when the slowness ends meanwhile', async () => {
  let ms = 30
  const out: number[] = []
  const pass = delayed<number>(
    () => ms,
    (n) => out.push(n),
  )
  pass(1)
  pass(2)
  ms = 0
  pass(3)
  expect(out).toEqual([])
  await new Promise((done) => setTimeout(done, 80))
  expect(out).toEqual([1, 2, 3])
  pass(4)
  expect(out).toEqual([1, 2, 3, 4])
})
