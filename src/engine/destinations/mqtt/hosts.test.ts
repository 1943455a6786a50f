import { describe, expect, it } from 'vitest'
import type { MqttSettings } from '~/contract/destinations/mqtt'
import { Hosts, referenced } from './hosts'

const settings = (otherHosts = 'b:2, c:3') => ({ host: 'a', port: 1, otherHosts }) as MqttSettings
const at = (h: Hosts) => `${h.current.host}:${h.current.port}`

describe('several hosts', () => {
  it('are tried in turn, from the first again after the last', () => {
    const h = Hosts.of(new Map(), settings())
    const seen = [at(h)]
    for (let i = 0; i < 3; i++) {
      h.failed()
      seen.push(at(h))
    }
    expect(seen).toEqual(['a:1', 'b:2', 'c:3', 'a:1'])
  })

  it('are gone back to the first from, and begun with anew when the settings name others', () => {
    const remembered = new Map<string, unknown>()
    const h = Hosts.of(remembered, settings())
    h.failed()
    expect(h.away).toBe(true)
    h.home()
    expect([at(h), h.away]).toEqual(['a:1', false])
    h.failed()
    expect(Hosts.of(remembered, settings())).toBe(h)
    expect(at(h)).toBe('b:2')
    Hosts.of(remembered, settings('d:4'))
    expect(at(h)).toBe('a:1')
  })

  it('a session is gone on with on the host where the last connection was, and nowhere else', () => {
    const h = Hosts.of(new Map(), settings())
    // Where an earlier run was nobody knows.
    expect(h.goesOn).toBe(false)
    h.settled()
    expect(h.goesOn).toBe(true)
    h.failed()
    expect(h.goesOn).toBe(false)
    h.settled()
    expect(h.goesOn).toBe(true)
    h.home()
    expect(h.goesOn).toBe(false)
    expect(Hosts.of(new Map(), settings('')).goesOn).toBe(true)
  })

  it('followers hear where the sender is', () => {
    const h = Hosts.of(new Map(), settings())
    const heard: string[] = []
    const end = h.follow((to) => heard.push(to.host))
    h.settled()
    h.failed()
    h.settled()
    end()
    h.settled()
    expect(heard).toEqual(['a', 'b'])
  })
})

describe('a broker that names another server', () => {
  it('for a while: until the link to that one is lost, or it cannot be reached', () => {
    const h = Hosts.of(new Map(), settings())
    expect(h.redirected({ host: 'x', port: 9 }, false)).toBe(true)
    expect([at(h), h.away]).toEqual(['x:9', false])
    h.lost()
    expect(at(h)).toBe('a:1')
    h.redirected({ host: 'x', port: 9 }, false)
    h.failed()
    expect(at(h)).toBe('a:1')
  })

  it('for good: it is gone back to, until it cannot be reached', () => {
    const h = Hosts.of(new Map(), settings())
    h.redirected({ host: 'x', port: 9 }, true)
    h.lost()
    expect(at(h)).toBe('x:9')
    h.failed()
    expect(at(h)).toBe('a:1')
  })

  it('one of its own is that one; the same one is no other place, so that nobody goes in circles', () => {
    const h = Hosts.of(new Map(), settings())
    expect(h.redirected({ host: 'c', port: 3 }, false)).toBe(true)
    expect([at(h), h.away]).toEqual(['c:3', true])
    expect(h.redirected({ host: 'c', port: 3 }, false)).toBe(false)
    expect(h.lists({ host: 'b', port: 2 })).toBe(true)
    expect(h.lists({ host: 'x', port: 2 })).toBe(false)
  })

  it.each([
    ['standby:8884', { host: 'standby', port: 8884 }],
    ['standby', { host: 'standby', port: 1883 }],
    ['[fd00::1]:8884 other:1', { host: 'fd00::1', port: 8884 }],
    ['mqtt://standby:1 other:2', { host: 'other', port: 2 }],
    ['', null],
    ['a:b:c:d', null],
  ])('is read from %j', (text, to) => {
    expect(referenced(text, 1883)).toEqual(to)
  })
})
