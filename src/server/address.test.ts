import { describe, expect, it } from 'vitest'
import { callerAddress, cameOverTls, proxyHops } from './address'

describe('where a request comes from', () => {
  it.each([
    [0, '203.0.113.7', '10.0.0.1', '10.0.0.1'],
    [1, '203.0.113.7', '10.0.0.1', '203.0.113.7'],
    // What the caller wrote himself stands to the left of what the proxy added.
    [1, '1.1.1.1, 203.0.113.7', '10.0.0.1', '203.0.113.7'],
    [2, '1.1.1.1, 203.0.113.7, 10.0.0.9', '10.0.0.1', '203.0.113.7'],
    [2, '203.0.113.7', '10.0.0.1', '10.0.0.1'],
    [1, undefined, '10.0.0.1', '10.0.0.1'],
    [1, '', '10.0.0.1', '10.0.0.1'],
  ] as const)('behind %d proxies, with %s, over %s: %s', (hops, list, connection, address) =>
    expect(callerAddress(connection, list, hops)).toBe(address),
  )

  it('how many proxies there are is a number, or the older word for one', () => {
    expect(proxyHops({})).toBe(0)
    expect(proxyHops({ EMBRIK_BEHIND_PROXY: '1' })).toBe(1)
    expect(proxyHops({ EMBRIK_BEHIND_PROXY: '1', EMBRIK_PROXY_HOPS: '2' })).toBe(2)
    expect(proxyHops({ EMBRIK_PROXY_HOPS: '-1' })).toBe(0)
    expect(proxyHops({ EMBRIK_PROXY_HOPS: 'all' })).toBe(0)
  })

  it('over TLS is what the trusted proxy says, not what stands before it', () => {
    expect(cameOverTls('https', 1)).toBe(true)
    expect(cameOverTls('https, http', 1)).toBe(false)
    expect(cameOverTls('http, https', 1)).toBe(true)
    expect(cameOverTls('https', 0)).toBe(false)
    expect(cameOverTls('https', 2)).toBe(true)
    expect(cameOverTls(undefined, 1)).toBe(false)
  })
})
