import fc from 'fast-check'
import mqtt, { type Packet } from 'mqtt-packet'
import { describe, expect, it } from 'vitest'
import { connectPacket, disconnectPacket, pingPacket, pubackPackets, subscribePacket, unsubscribePacket } from './packets'
import { type Incoming, type Version, WireError, WireReader } from './wire'

// Held against the common library: neither knows the other's code.

const version = fc.constantFrom<Version>(4, 5)
const word = fc.string({ unit: 'grapheme', minLength: 1, maxLength: 30 }).filter((s) => !/[\0+#]/.test(s))

function readAll(v: Version, bytes: Uint8Array, cuts: readonly number[] = []): Incoming[] {
  const out: Incoming[] = []
  const reader = new WireReader(v, 'embrik-id', (p) => out.push(p.kind === 'publish' ? { ...p, payload: Uint8Array.from(p.payload) } : p))
  let from = 0
  for (const cut of [...cuts.map((c) => c % (bytes.length + 1)).sort((a, b) => a - b), bytes.length]) {
    reader.push(bytes.subarray(from, cut))
    from = cut
  }
  return out
}

function parsed(v: Version, bytes: Uint8Array): Packet[] {
  const out: Packet[] = []
  const parser = mqtt.parser({ protocolVersion: v })
  parser.on('packet', (p: Packet) => out.push(p))
  parser.on('error', (e: Error) => {
    throw e
  })
  parser.parse(Buffer.from(bytes))
  return out
}

const message = fc.record({
  topic: word,
  payload: fc.uint8Array({ maxLength: 300 }),
  qos: fc.constantFrom<0 | 1 | 2>(0, 1, 2),
  dup: fc.boolean(),
  retain: fc.boolean(),
  packetId: fc.integer({ min: 1, max: 65_535 }),
  id: fc.option(word),
  more: fc.record({
    contentType: fc.option(word),
    expiry: fc.option(fc.nat(1e9)),
    other: fc.option(word),
    subscription: fc.option(fc.integer({ min: 1, max: 2e5 })),
  }),
})

describe('reading', () => {
  it('a stream of messages that the library wrote, cut anywhere', () => {
    fc.assert(
      fc.property(version, fc.array(message, { maxLength: 8 }), fc.array(fc.nat(3000), { maxLength: 6 }), (v, messages, cuts) => {
        const bytes = Buffer.concat(
          messages.map((m) =>
            mqtt.generate(
              {
                cmd: 'publish',
                topic: m.topic,
                payload: Buffer.from(m.payload),
                qos: m.qos,
                dup: m.dup && m.qos > 0,
                retain: m.retain,
                ...(m.qos > 0 && { messageId: m.packetId }),
                ...(v === 5 && {
                  properties: {
                    ...(m.more.contentType !== null && { contentType: m.more.contentType }),
                    ...(m.more.expiry !== null && { messageExpiryInterval: m.more.expiry }),
                    ...(m.more.subscription !== null && { subscriptionIdentifier: m.more.subscription }),
                    // The library writes nothing at all when it is given an empty object here.
                    ...((m.more.other !== null || m.id !== null) && {
                      userProperties: { ...(m.more.other !== null && { other: m.more.other }), ...(m.id !== null && { 'embrik-id': m.id }) },
                    }),
                  },
                }),
              },
              { protocolVersion: v },
            ),
          ),
        )
        expect(readAll(v, bytes, cuts)).toEqual(
          messages.map((m) => ({
            kind: 'publish',
            topic: m.topic,
            payload: new Uint8Array(m.payload),
            qos: m.qos,
            dup: m.dup && m.qos > 0,
            retain: m.retain,
            packetId: m.qos > 0 ? m.packetId : 0,
            id: v === 5 ? m.id : null,
          })),
        )
      }),
    )
  })

  it('what else a broker answers', () => {
    const five = (p: object) => mqtt.generate(p as Packet, { protocolVersion: 5 })
    const four = (p: object) => mqtt.generate(p as Packet, { protocolVersion: 4 })
    expect(
      readAll(
        5,
        five({ cmd: 'connack', sessionPresent: true, reasonCode: 0, properties: { receiveMaximum: 7, maximumQoS: 1, reasonString: 'why' } }),
      ),
    ).toMatchObject([
      { kind: 'connack', sessionPresent: true, reason: 0, receiveMaximum: 7, maximumQos: 1, retainAvailable: true, reasonString: 'why' },
    ])
    expect(readAll(4, four({ cmd: 'connack', sessionPresent: false, returnCode: 5 }))).toMatchObject([
      { kind: 'connack', sessionPresent: false, reason: 5 },
    ])
    for (const [v, make] of [
      [5, five],
      [4, four],
    ] as const) {
      expect(readAll(v, make({ cmd: 'suback', messageId: 300, granted: [1, 128] }))).toEqual([{ kind: 'suback', packetId: 300, reasons: [1, 128] }])
      expect(readAll(v, make({ cmd: 'unsuback', messageId: 9, granted: v === 5 ? [0] : undefined }))).toMatchObject([
        { kind: 'unsuback', packetId: 9 },
      ])
      expect(readAll(v, make({ cmd: 'pingresp' }))).toEqual([{ kind: 'pingresp' }])
    }
    expect(readAll(5, five({ cmd: 'disconnect', reasonCode: 0x8e }))).toMatchObject([{ kind: 'disconnect', reason: 0x8e }])
    expect(readAll(5, five({ cmd: 'pubrel', messageId: 1 }))).toMatchObject([{ kind: 'pubrel' }])
  })

  it('nonsense ends in an error of its own, never in another', () => {
    fc.assert(
      fc.property(version, fc.uint8Array({ minLength: 1, maxLength: 200 }), (v, bytes) => {
        try {
          readAll(v, bytes)
        } catch (e) {
          expect(e).toBeInstanceOf(WireError)
        }
      }),
      { numRuns: 2000 },
    )
    expect(() => readAll(5, Uint8Array.of(0x30, 0xff, 0xff, 0xff, 0xff, 1))).toThrow(WireError)
    expect(() => readAll(5, Uint8Array.of(0x36, 2, 0, 0))).toThrow(WireError)
  })
})

describe('what a reading client says', () => {
  it('is read by the library as it was meant', () => {
    fc.assert(
      fc.property(
        version,
        word,
        fc.option(word),
        fc.boolean(),
        fc.array(word, { minLength: 1, maxLength: 5 }),
        (v, clientId, user, clean, filters) => {
          const connect = parsed(
            v,
            connectPacket(v, { clientId, clean, keepAliveS: 30, user, password: user, expiryS: 604_800, receiveMaximum: 20_000, packetMax: 1 << 20 }),
          )
          expect(connect).toMatchObject([
            {
              cmd: 'connect',
              protocolVersion: v,
              clientId,
              clean,
              keepalive: 30,
              ...(user !== null && { username: user }),
              ...(v === 5 && { properties: { sessionExpiryInterval: 604_800, receiveMaximum: 20_000, maximumPacketSize: 1 << 20 } }),
            },
          ])
          const subscriptions = filters.map((topic) => (v === 5 ? { topic, qos: 1, nl: false, rap: false, rh: 2 } : { topic, qos: 1 }))
          expect(parsed(v, subscribePacket(v, 77, filters))).toMatchObject([{ cmd: 'subscribe', messageId: 77, subscriptions }])
          expect(parsed(v, unsubscribePacket(v, 78, filters))).toMatchObject([{ cmd: 'unsubscribe', messageId: 78, unsubscriptions: filters }])
        },
      ),
    )
    for (const v of [4, 5] as const) {
      expect(parsed(v, pubackPackets([1, 65_535]))).toMatchObject([
        { cmd: 'puback', messageId: 1 },
        { cmd: 'puback', messageId: 65_535 },
      ])
      expect(parsed(v, pingPacket)).toMatchObject([{ cmd: 'pingreq' }])
      expect(parsed(v, disconnectPacket)).toMatchObject([{ cmd: 'disconnect' }])
    }
  })
})
