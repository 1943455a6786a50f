import fc from 'fast-check'
import mqtt, { type IPublishPacket, type Packet } from 'mqtt-packet'
import { describe, expect, it } from 'vitest'
import { PacketReader } from './reader'
import { PacketWriter } from './writer'

// What is read and written by hand is held against the library.

const word = fc.string({ unit: 'grapheme', minLength: 1, maxLength: 40 }).filter((s) => !/[\0+#\ufffd]/.test(s) && s.isWellFormed?.() !== false)
const packet = fc.record({
  cmd: fc.constant('publish' as const),
  topic: word,
  payload: fc.uint8Array({ maxLength: 400 }).map((b) => Buffer.from(b)),
  qos: fc.constantFrom<0 | 1 | 2>(0, 1, 2),
  dup: fc.boolean(),
  retain: fc.boolean(),
  messageId: fc.integer({ min: 1, max: 65_535 }),
  properties: fc.record(
    {
      payloadFormatIndicator: fc.boolean(),
      messageExpiryInterval: fc.nat(1e9),
      contentType: word,
      responseTopic: word,
      topicAlias: fc.integer({ min: 1, max: 100 }),
      userProperties: fc.dictionary(
        word.filter((w) => w !== '__proto__'),
        fc.oneof(word, fc.array(word, { minLength: 2, maxLength: 3 })),
        { minKeys: 1, maxKeys: 3 },
      ),
    },
    { requiredKeys: [] },
  ),
})
const version = fc.constantFrom<4 | 5>(4, 5)
const plain = (p: Packet): Record<string, unknown> => {
  const payload = 'payload' in p && p.payload ? Buffer.from(p.payload as Buffer).toString('hex') : ''
  return JSON.parse(JSON.stringify({ ...p, payload }))
}

function byLibrary(bytes: Buffer, v: 4 | 5): Packet[] {
  const out: Packet[] = []
  const parser = mqtt.parser({ protocolVersion: v })
  parser.on('packet', (p: Packet) => out.push(p))
  parser.on('error', (e: Error) => {
    throw e
  })
  parser.parse(bytes)
  return out
}

function byHand(bytes: Buffer, v: 4 | 5, cuts: readonly number[]): Packet[] {
  const out: Packet[] = []
  const reader = new PacketReader(
    (p) => out.push(p),
    () => expect.unreachable('called malformed'),
  )
  reader.version = v
  let from = 0
  for (const cut of [...cuts.map((c) => c % (bytes.length + 1)).sort((a, b) => a - b), bytes.length]) {
    reader.push(Buffer.from(bytes.subarray(from, cut)))
    from = cut
  }
  return out
}

/** The library tells of no properties where there are none. */
const withoutEmpty = (p: Packet) => {
  const { properties, ...rest } = plain(p) as { properties?: object }
  return properties && Object.keys(properties).length > 0 ? { ...rest, properties } : rest
}

/** As one of the two versions has it. */
const fitted = (p: IPublishPacket, v: 4 | 5): IPublishPacket => {
  const { properties, messageId, ...rest } = p
  return {
    ...rest,
    ...(p.qos > 0 && { messageId: messageId! }),
    ...(v === 5 && { properties: properties! }),
    dup: p.qos > 0 && p.dup,
  } as IPublishPacket
}

describe('packets of the broker', () => {
  it('are read as the library reads them, cut anywhere', () => {
    fc.assert(
      fc.property(version, fc.array(packet, { minLength: 1, maxLength: 6 }), fc.array(fc.nat(3000), { maxLength: 5 }), (v, packets, cuts) => {
        const answers: Packet[] = [{ cmd: 'puback', messageId: 7 }, { cmd: 'pubrel', messageId: 8 }, { cmd: 'pingreq' }]
        const bytes = Buffer.concat(
          [...packets.map((p) => fitted(p as IPublishPacket, v)), ...answers].map((p) => mqtt.generate(p, { protocolVersion: v })),
        )
        const ours = byHand(bytes, v, cuts)
        const theirs = byLibrary(bytes, v)
        expect(ours.map((p) => p.cmd)).toEqual(theirs.map((p) => p.cmd))
        ours.forEach((p, i) => {
          const { length: _, properties = {}, messageId, reasonCode: own, ...mine } = plain(p)
          const { length: __, properties: those = {}, messageId: id, reasonCode, ...other } = plain(theirs[i]!)
          // The library tells flags of packets that have none.
          expect(other).toMatchObject(mine)
          expect([properties, messageId ?? null, own ?? 0]).toEqual([those, id ?? null, reasonCode ?? 0])
        })
      }),
    )
  })

  it('are written as the library reads them', () => {
    fc.assert(
      fc.property(version, fc.array(packet, { minLength: 1, maxLength: 6 }), (v, packets) => {
        const writer = new PacketWriter()
        writer.version = v
        const wanted = packets.map((p) => {
          const { topicAlias: _, ...properties } = p.properties
          return fitted({ ...p, properties } as IPublishPacket, v)
        })
        for (const p of wanted) writer.write(p)
        writer.write({ cmd: 'puback', messageId: 300, reasonCode: 0x97 } as Packet)
        const read = byLibrary(writer.take(), v)
        expect(read.slice(0, -1).map(plain)).toMatchObject(wanted.map(withoutEmpty))
        expect(read.at(-1)).toMatchObject({ cmd: 'puback', messageId: 300, ...(v === 5 && { reasonCode: 0x97 }) })
        expect(writer.take().length).toBe(0)
      }),
    )
  })

  it.each([
    ['both QoS bits', [0x36, 5, 0, 1, 97, 0, 1]],
    ['a topic beyond the packet', [0x30, 3, 0, 9, 97]],
    ['a length that does not end', [0x30, 0xff, 0xff, 0xff, 0xff, 1]],
  ])('with %s end the connection', (_, octets) => {
    let malformed = 0
    const reader = new PacketReader(
      () => expect.unreachable('took it'),
      () => malformed++,
    )
    reader.push(Buffer.from(octets))
    expect(malformed).toBe(1)
  })
})
