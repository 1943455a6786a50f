import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { CountedDeliveries, type Delivered } from './counted'

const seen = (part: Partial<Delivered> = {}): Delivered => ({ delivery: 1, seq: 7, digest: 99, state: 'seen', connection: 1, ...part })

describe('deliveries that the broker may repeat', () => {
  it('are written once counted, and read back as acknowledgeable', () => {
    fc.assert(
      fc.property(
        fc.uniqueArray(fc.integer({ min: 1, max: 65_535 }), { maxLength: 50 }),
        fc.nat({ max: Number.MAX_SAFE_INTEGER }),
        fc.nat({ max: Number.MAX_SAFE_INTEGER }),
        (ids, seq, digest) => {
          const list = new CountedDeliveries()
          ids.forEach((id, i) => {
            const d = seen({ delivery: i, seq, digest })
            list.set(id, d)
            if (i % 3 !== 0) list.counted(d)
          })
          const again = new CountedDeliveries()
          again.restore(list.encode())
          ids.forEach((id, i) => {
            if (i % 3 === 0) expect(again.get(id)).toBeUndefined()
            else expect(again.get(id)).toEqual({ delivery: i, seq, digest, state: 'written', connection: 0 })
          })
        },
      ),
    )
  })

  it('are taken only when something changed', () => {
    const list = new CountedDeliveries()
    const d = seen()
    list.set(3, d)
    expect(list.take()).toBeNull()
    list.counted(d)
    expect(list.take()?.length).toBe(22)
    expect(list.take()).toBeNull()
    list.forget(3, d)
    expect(list.take()?.length).toBe(0)
    list.clear()
    expect(list.take()).toBeNull()
  })

  it('are not forgotten for another that has the same packet identifier now', () => {
    const list = new CountedDeliveries()
    const [old, next] = [seen(), seen({ seq: 8 })]
    list.set(3, old)
    list.set(3, next)
    list.forget(3, old)
    expect(list.get(3)).toBe(next)
  })

  it('of earlier connections go when the broker has repeated what it had to, but not before they are written', () => {
    const list = new CountedDeliveries()
    list.set(1, seen({ state: 'written', connection: 1 }))
    list.set(2, seen({ state: 'counted', connection: 1 }))
    list.set(3, seen({ state: 'written', connection: 2 }))
    list.forgetBefore(2)
    expect([1, 2, 3].map((id) => list.get(id) !== undefined)).toEqual([false, true, true])
    expect(list.size).toBe(2)
  })
})
