import fc from 'fast-check'
import mqtt, { type IPublishPacket, type Packet } from 'mqtt-packet'
import { expect, it } from 'vitest'
import { packProperties } from '../delivery/properties'
import { Framer, type Publishing } from './publish'
import type { Version } from './wire'

// Held against the common library: neither knows the other's code.

const word = fc.string({ unit: 'grapheme', minLength: 1, maxLength: 40 }).filter((s) => !/[\0+#]/.test(s))
const publishing: fc.Arbitrary<Publishing & { contentType: string; headers: [string, string][]; responseTopic: string }> = fc
  .record({
    topic: word,
    payload: fc.oneof(fc.uint8Array({ maxLength: 400 }), fc.constant(new Uint8Array(70_000).fill(7))),
    qos: fc.constantFrom<0 | 1 | 2>(0, 1, 2),
    retain: fc.boolean(),
    dup: fc.boolean(),
    packetId: fc.integer({ min: 1, max: 65_535 }),
    id: fc.constantFrom('', 'aaaaaaaa.3.10442'),
    expiryS: fc.option(fc.integer({ min: 1, max: 0xffffffff })),
    contentType: word,
    headers: fc.array(fc.tuple(word, word), { maxLength: 3 }),
    responseTopic: fc.oneof(fc.constant(''), word),
  })
  .map((p) => ({ ...p, dup: p.dup && p.qos > 0, properties: packProperties({ ...p, binary: true, key: '', expiryS: p.expiryS }) }))

function parsed(v: Version, bytes: Uint8Array): IPublishPacket[] {
  const out: IPublishPacket[] = []
  const parser = mqtt.parser({ protocolVersion: v })
  parser.on('packet', (p: Packet) => out.push(p as IPublishPacket))
  parser.on('error', (e: Error) => {
    throw e
  })
  parser.parse(Buffer.from(bytes))
  return out
}

it('messages framed one behind the other read as they were, by somebody else, and are no larger than foretold', () => {
  fc.assert(
    fc.property(fc.constantFrom<Version>(4, 5), fc.array(publishing, { minLength: 1, maxLength: 6 }), (v, messages) => {
      const framer = new Framer(v, 'embrik-id')
      for (const m of messages) {
        const before = framer.length
        framer.publish(m)
        expect(framer.length - before).toBeLessThanOrEqual(framer.sizeOf(m))
      }
      const out = parsed(v, framer.take())
      expect(out.length).toBe(messages.length)
      out.forEach((p, i) => {
        const m = messages[i]!
        expect(p).toMatchObject({ cmd: 'publish', topic: m.topic, qos: m.qos, retain: m.retain, dup: m.dup })
        expect(Buffer.compare(p.payload as Buffer, Buffer.from(m.payload))).toBe(0)
        if (m.qos > 0) expect(p.messageId).toBe(m.packetId)
        if (v !== 5) return
        expect(p.properties).toMatchObject({ contentType: m.contentType, ...(m.responseTopic !== '' && { responseTopic: m.responseTopic }) })
        expect(p.properties?.messageExpiryInterval ?? null).toBe(m.expiryS)
        const id = p.properties?.userProperties?.['embrik-id']
        if (!m.headers.some(([name]) => name === 'embrik-id')) expect(id).toBe(m.id === '' ? undefined : m.id)
        for (const [name, value] of m.headers) if (name !== '__proto__') expect([p.properties?.userProperties?.[name]].flat()).toContain(value)
      })
      expect(framer.length).toBe(0)
    }),
    { numRuns: 300 },
  )
})

it('topics go by number from their second message on, as many as may, and are known again', () => {
  const topics = fc.constantFrom('kiln/zone-1', 'kiln/zone-2', 'dryer/1', 'dryer/ü')
  fc.assert(
    fc.property(fc.nat(3), fc.array(fc.tuple(topics, publishing), { minLength: 1, maxLength: 20 }), (most, messages) => {
      const framer = new Framer(5, 'embrik-id')
      framer.allowAliases(most)
      for (const [topic, m] of messages) {
        const before = framer.length
        framer.publish({ ...m, topic })
        expect(framer.length - before).toBeLessThanOrEqual(framer.sizeOf({ ...m, topic }))
      }
      const known = new Map<number, string>()
      const short = parsed(5, framer.take()).map((p, i) => {
        const alias = p.properties?.topicAlias
        if (alias !== undefined && p.topic !== '') known.set(alias, p.topic)
        expect(p.topic === '' ? known.get(alias!) : p.topic).toBe(messages[i]![0])
        expect(Buffer.compare(p.payload as Buffer, Buffer.from(messages[i]![1].payload))).toBe(0)
        return p.topic === ''
      })
      const numbered = [...new Set(messages.map(([topic]) => topic))].slice(0, most)
      expect(known.size).toBe(numbered.length)
      expect(short.filter(Boolean).length).toBe(messages.filter(([topic]) => numbered.includes(topic)).length - numbered.length)
    }),
  )
})

it('without properties a message of version 5 has none', () => {
  const framer = new Framer(5, 'embrik-id')
  framer.publish({ topic: 't', payload: Uint8Array.of(1), qos: 0, retain: false, dup: false, packetId: 0, properties: null, id: '', expiryS: null })
  expect([...framer.take()]).toEqual([0x30, 5, 0, 1, 0x74, 0, 1])
})
