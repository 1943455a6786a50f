import { describe, expect, it } from 'vitest'
import { Renumbering } from './renumbering'

describe('a broker that repeats under new packet identifiers', () => {
  it('is known by several repetitions, in one connection or one after the other', () => {
    const once = new Renumbering()
    once.gotAnother()
    expect(once.believed).toBe(false)
    once.gotAnother()
    expect(once.believed).toBe(true)
    const apart = new Renumbering()
    apart.gotAnother()
    apart.begin()
    apart.gotAnother()
    expect(apart.believed).toBe(true)
  })

  it('is not accused for one copy that it made itself, nor when others keep their identifiers', () => {
    const broker = new Renumbering()
    broker.gotAnother()
    broker.keptItsIdentifier()
    broker.keptItsIdentifier()
    broker.begin()
    broker.gotAnother()
    expect(broker.believed).toBe(false)
  })

  it('is believed again when it keeps them', () => {
    const broker = new Renumbering(true)
    broker.begin()
    broker.keptItsIdentifier()
    expect(broker.believed).toBe(false)
  })
})
