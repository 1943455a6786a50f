import { describe, expect, it } from 'vitest'
import { brokerAt, type HandedAddress, hostAt, placeFor, webAt } from './addresses'

const at = (part: Partial<HandedAddress>): HandedAddress => ({
  host: 'hub.example',
  port: null,
  scheme: null,
  path: null,
  identity: null,
  events: null,
  eventsTopic: null,
  ...part,
})

describe('an address that somebody was handed', () => {
  it('of a broker is protected unless it says otherwise', () => {
    expect(brokerAt(at({}))).toEqual({ host: 'hub.example', port: 8883, tls: true })
    expect(brokerAt(at({ port: 1883 }))).toEqual({ host: 'hub.example', port: 1883, tls: false })
    expect(brokerAt(at({ scheme: 'mqtt' }))).toEqual({ host: 'hub.example', port: 1883, tls: false })
    expect(brokerAt(at({ scheme: 'ssl', port: 1884 }))).toEqual({ host: 'hub.example', port: 1884, tls: true })
    expect(brokerAt(at({ host: null }))).toBeNull()
  })

  it('of a web server and of anything else keeps what was said', () => {
    expect(webAt(at({ scheme: 'http', port: 8080, path: '/in?a=1' }))).toBe('http://hub.example:8080/in?a=1')
    expect(webAt(at({}))).toBe('https://hub.example')
    expect(webAt(at({ host: 'fd00::7', port: 8443 }))).toBe('https://[fd00::7]:8443')
    expect(webAt(at({ host: null }))).toBeNull()
    expect(hostAt(at({ port: 5433 }))).toEqual({ host: 'hub.example', port: 5433 })
    expect(hostAt(at({}))).toEqual({ host: 'hub.example' })
  })

  it('says where a log-in is meant to go', () => {
    expect(placeFor(at({ scheme: 'https' }))).toBe('https://hub.example:443')
    expect(placeFor(at({ scheme: 'mqtts', port: 8884 }))).toBe('mqtts://hub.example:8884')
    expect(placeFor(at({ scheme: 'tcp' }))).toBe('mqtt://hub.example:1883')
    expect(placeFor(at({}))).toBe('mqtts://hub.example:8883')
    expect(placeFor(at({ host: null }))).toBe('')
  })
})
