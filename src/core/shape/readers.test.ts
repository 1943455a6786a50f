// What was written is read by libraries that know the formats and not us, and held against octets written down by hand from the standards.

import { decode as unpack } from '@msgpack/msgpack'
import avro from 'avsc'
import cbor from 'cbor'
import { HTTP } from 'cloudevents'
import { BinaryStream } from 'node-opcua-binary-stream'
import { DataSetMetaDataType } from 'node-opcua-types'
import { DataType, decodeVariant } from 'node-opcua-variant'
import { describe, expect, it } from 'vitest'
import type { ShapeInput } from '~/contract/shape'
import { Status } from '../value/quality'
import { avroSchema, canonical, fingerprint } from './avro'
import { fieldNames } from './pubsub'
import { announcement } from './pubsub-uadp'
import { decoderOf, encoderOf } from './registry'
import { Series } from './shape'
import { cell, kiln, member, part, scope, settings } from './shape-samples'
import { deviceBirth, nodeBirth, nodeDeath, withoutSeq, withSeq } from './sparkplug-birth'
import { published } from './sparkplug-published'

const T = Date.UTC(2026, 2, 4, 14, 7, 12, 481)
const one = {
  ...kiln,
  name: 'Zone 7',
  className: 'Kiln Zone',
  members: [member('temperature'), member('cars', 'integer'), member('burner', 'boolean'), member('curve', 'text'), member('gas.flow')],
}
const cells = () => [
  cell(689.6, 0, T),
  cell(-70_000, 0, T),
  cell(true, 0, T - 100),
  cell('FC-12 ü', Status.stale, T),
  cell(null, 0x808c0000, T, 4.5, T - 12_400),
]
const about = scope([one])
const write = (input: ShapeInput, all = cells(), changed?: number[], whole = true) => {
  const out = encoderOf(settings(input), about)({ parts: [part(all, changed)], now: T, seq: 7, whole })
  if (!out) throw new Error('nothing was written')
  return out
}
const octets = (input: ShapeInput, ...rest: [ReturnType<typeof cells>?, number[]?, boolean?]) => write(input, ...rest).payload as Uint8Array
const hex = (b: Uint8Array) => Buffer.from(b).toString('hex')
const quality = { curve: 'uncertain: stale', 'gas.flow': 'bad: sensor fault' }

describe('texts', () => {
  it.each<[ShapeInput, string]>([
    [
      { kind: 'flat-json' },
      '{"at":"2026-03-04T14:07:12.481Z","temperature":689.6,"cars":-70000,"burner":true,"curve":"FC-12 ü","gas.flow":null,"quality":{"curve":"uncertain: stale","gas.flow":"bad: sensor fault"}}',
    ],
    [
      { kind: 'flat-json', bad: 'last-good', time: 'local', zone: 'Europe/Berlin', decimals: 0 },
      '{"at":"2026-03-04T15:07:12.481+01:00","temperature":690,"cars":-70000,"burner":true,"curve":"FC-12 ü","gas.flow":5,"quality":{"curve":"uncertain: stale","gas.flow":"bad: sensor fault, value is 12.4 s old"}}',
    ],
    [
      { kind: 'nested-json', bad: 'left-out', time: 'epoch-ms' },
      '{"at":1772633232481,"temperature":689.6,"cars":-70000,"burner":true,"curve":"FC-12 ü","quality":{"curve":"uncertain: stale"}}',
    ],
    [
      { kind: 'nested-json', time: 'epoch-s' },
      '{"at":1772633232.481,"temperature":689.6,"cars":-70000,"burner":true,"curve":"FC-12 ü","gas":{"flow":null},"quality":{"curve":"uncertain: stale","gas.flow":"bad: sensor fault"}}',
    ],
    [
      { kind: 'rows', form: 'csv', rows: 'wide' },
      'equipment,at,temperature,cars,burner,curve,gas.flow,quality\r\nZone 7,2026-03-04T14:07:12.481Z,689.6,-70000,true,FC-12 ü,,curve=uncertain: stale; gas.flow=bad: sensor fault\r\n',
    ],
    [{ kind: 'template', form: 'csv', body: '${equipment};${temperature|pad(8)};${curve};${gas.flow};${seq}\n' }, 'Zone 7;000689.6;FC-12 ü;;7\n'],
    [
      { kind: 'template', body: '{"n":"${equipment|upper}","t":${temperature},"why":"${gas.flow.reason}","v":${gas.flow},"c":"<${curve}>"}' },
      '{"n":"ZONE 7","t":689.6,"why":"sensor fault","v":null,"c":"<FC-12 ü>"}',
    ],
  ])('%j', (input, text) => expect(write(input).payload).toBe(text))

  it('only what changed, and everything now and then', () => {
    expect(write({ kind: 'flat-json', members: 'changed' }, cells(), [0, 1, 0, 0, 0], false).payload).toBe(
      '{"at":"2026-03-04T14:07:12.481Z","cars":-70000}',
    )
    expect(write({ kind: 'rows', members: 'changed' }, cells(), [1, 0, 0, 0, 0], false).payload).toBe(
      '[{"equipment":"Zone 7","name":"temperature","value":689.6,"quality":"good","at":"2026-03-04T14:07:12.481Z"}]',
    )
  })

  it('numbers beyond what readers hold go as text when asked, and what is not finite by rule', () => {
    const odd = [cell(Number.NaN), cell(2 ** 60), cell(true), cell('x'), cell(Number.NEGATIVE_INFINITY)]
    expect(write({ kind: 'flat-json', wholes: 'text', nonFinite: 'text' }, odd).payload).toContain('"temperature":"NaN","cars":"1152921504606846976"')
    expect(write({ kind: 'flat-json' }, odd).payload).toContain(
      '"temperature":null,"cars":1152921504606847000,"burner":true,"curve":"x","gas.flow":null',
    )
  })

  it('whole numbers of others beyond 2^53 are read unrounded', () => {
    const read = decoderOf(
      settings({ kind: 'flat-json' }),
      about,
    )(new TextEncoder().encode('{"at":"2026-03-04T14:07:12.481Z","cars":9007199254740993,"curve":"9007199254740993"}'))
    expect('readings' in read && read.readings.map((r) => r.value)).toEqual([9_007_199_254_740_993n, '9007199254740993'])
  })
})

describe('CBOR', () => {
  it('as another reader sees it', () => {
    const tree = cbor.decodeFirstSync(Buffer.from(octets({ kind: 'cbor' })))
    expect(tree).toMatchObject({ temperature: 689.6, cars: -70_000, burner: true, curve: 'FC-12 ü', gas: { flow: null }, quality })
  })
  it('octet by octet (RFC 8949 3 and appendix A)', () => {
    const small = scope([{ ...one, members: [member('a', 'integer'), member('b')] }])
    const out = encoderOf(
      settings({ kind: 'cbor', time: 'epoch-ms' }),
      small,
    )({ parts: [part([cell(1000, 0, 100), cell(1.1, 0, 24)])], now: T, seq: 1, whole: true })
    // map(3): "at" 100, "a" 1000, "b" 1.1
    expect(hex(out!.payload as Uint8Array)).toBe('a3626174186461611903e86162fb3ff199999999999a')
  })
})

describe('MessagePack', () => {
  it('as another reader sees it', () => {
    expect(unpack(Buffer.from(octets({ kind: 'messagepack' })))).toEqual({
      at: '2026-03-04T14:07:12.481Z',
      temperature: 689.6,
      cars: -70_000,
      burner: true,
      curve: 'FC-12 ü',
      gas: { flow: null },
      quality,
    })
  })
  it('octet by octet, by the table of its specification', () => {
    const small = scope([{ ...one, members: [member('a', 'integer'), member('b', 'boolean')] }])
    const out = encoderOf(
      settings({ kind: 'messagepack', time: 'epoch-ms' }),
      small,
    )({ parts: [part([cell(-33, 0, 5), cell(false, 0, 5)])], now: T, seq: 1, whole: true })
    expect(hex(out!.payload as Uint8Array)).toBe('83' + 'a26174' + '05' + 'a161' + 'd0df' + 'a162' + 'c2')
  })
})

describe('Avro', () => {
  const how = { kind: 'avro' as const, namespace: 'works.varnmoor' }
  it('as another reader sees it, by the schema that receivers get', () => {
    const schema = avroSchema(how, one)
    const type = avro.Type.forSchema(schema as unknown as avro.Schema, { wrapUnions: false })
    const datum = type.fromBuffer(Buffer.from(octets({ ...how, framing: 'plain' }))) as Record<string, unknown>
    expect({ ...datum, quality: { ...(datum.quality as object) } }).toEqual({
      at: T,
      temperature: 689.6,
      cars: -70_000,
      burner: true,
      curve: 'FC-12 ü',
      gas_flow: null,
      quality: { curve: 'uncertain: stale', gas_flow: 'bad: sensor fault' },
    })
    expect(JSON.parse(canonical(how, one))).toEqual((type as unknown as { schema(): unknown }).schema())
  })
  it('fingerprints as the specification computes them', () => {
    // Known for the schema "int".
    expect(fingerprint('"int"').toString(16)).toBe('7275d51a3f395c8f')
    const framed = octets(how)
    expect(hex(framed.subarray(0, 2))).toBe('c301')
    expect(Buffer.from(framed).readBigUInt64LE(2)).toBe(fingerprint(canonical(how, one)))
    expect(hex(framed.subarray(10))).toBe(hex(octets({ ...how, framing: 'plain' })))
  })
})

describe('CloudEvents', () => {
  it.each(['structured', 'binary'] as const)('%s, as the library of the standard sees it', (mode) => {
    const out = write({ kind: 'cloudevents', mode, source: '/works', type: 'works.varnmoor.equipment.state' })
    const headers =
      mode === 'structured'
        ? { 'content-type': 'application/cloudevents+json' }
        : { 'content-type': 'application/json', ...Object.fromEntries(out.headers!.map(([k, v]) => [`ce-${k}`, v])) }
    const event = HTTP.toEvent({ headers, body: out.payload as string }) as unknown as { validate(): boolean } & Record<string, unknown>
    expect(event.validate()).toBe(true)
    expect(event).toMatchObject({
      specversion: '1.0',
      id: `${about.publicationId}-7`,
      source: '/works/Varnmoor/Lower%20Pit/Firing',
      type: 'works.varnmoor.equipment.state',
      subject: 'Zone 7',
      time: '2026-03-04T14:07:12.481Z',
    })
    expect(event.data).toMatchObject({ temperature: 689.6, gas: { flow: null }, quality })
  })
})

describe('Sparkplug B', () => {
  const read = (b: Uint8Array) =>
    published.toObject(published.decode(b), { longs: String }) as { timestamp: string; seq?: string; metrics: Record<string, unknown>[] }

  it('data, by the published definition: names and datatypes without aliases', () => {
    const { timestamp, metrics } = read(octets({ kind: 'sparkplug-b', aliases: false, members: 'all' }))
    expect(timestamp).toBe(String(T))
    expect(metrics[0]).toEqual({ name: 'temperature', timestamp: String(T), datatype: 10, doubleValue: 689.6 })
    expect(metrics[1]).toEqual({ name: 'cars', timestamp: String(T), datatype: 4, longValue: String(2n ** 64n - 70_000n) })
    expect(metrics[2]).toEqual({ name: 'burner', timestamp: String(T - 100), datatype: 11, booleanValue: true })
    expect(metrics[3]).toMatchObject({
      name: 'curve',
      stringValue: 'FC-12 ü',
      properties: {
        keys: ['Quality', 'reason'],
        values: [
          { type: 3, intValue: 500 },
          { type: 12, stringValue: 'stale' },
        ],
      },
    })
    // Bad: no value, or, where that was chosen, the last good one under its own time.
    const quality = { values: [{ intValue: 0 }, { stringValue: 'sensor fault' }] }
    expect(metrics[4]).toMatchObject({ name: 'gas/flow', isNull: true, timestamp: String(T), properties: quality })
    expect(metrics[4]).not.toHaveProperty('doubleValue')
    const kept = read(octets({ kind: 'sparkplug-b', aliases: false, members: 'all', bad: 'last-good' })).metrics[4]
    expect(kept).toMatchObject({ doubleValue: 4.5, timestamp: String(T - 12_400), properties: quality })
  })

  it('births tell name, alias and datatype; data then goes by alias, and only what changed', () => {
    const birth = read(deviceBirth({ aliases: true, bad: 'marked' }, one, [one])(cells(), T))
    expect(birth.metrics.map((m) => m.name)).toEqual(['temperature', 'cars', 'burner', 'curve', 'gas/flow', 'Facts/serial', 'Facts/year'])
    const data = read(octets({ kind: 'sparkplug-b' }, cells(), [0, 1, 0, 0, 0], false))
    expect(data.metrics).toEqual([{ alias: birth.metrics[1]!.alias, timestamp: String(T), longValue: String(2n ** 64n - 70_000n) }])
    expect(read(nodeBirth(3, T)).metrics).toMatchObject([
      { name: 'bdSeq', datatype: 4, longValue: '3' },
      { name: 'Node Control/Rebirth', datatype: 11, booleanValue: false },
    ])
    expect(read(nodeDeath(3, T)).metrics).toMatchObject([{ name: 'bdSeq', longValue: '3' }])
  })

  it('gets its number in the session when it is sent, from 0 to 255 and round', () => {
    const payload = octets({ kind: 'sparkplug-b' })
    for (const seq of [0, 1, 127, 128, 255, 256]) {
      const sent = withSeq(payload, seq)
      expect(read(sent)).toMatchObject({ seq: String(seq % 256) })
      expect(hex(withoutSeq(sent))).toBe(hex(payload))
    }
  })
})

describe('OPC UA PubSub', () => {
  it('JSON: a key frame with values, times and statuses; a delta frame with what changed', () => {
    const encoder = encoderOf(settings({ kind: 'pubsub-json', members: 'changed', fullEvery: 10, publisherId: 'works' }), about)
    const first = encoder({ parts: [part(cells())], now: T, seq: 1, whole: true })!
    const key = JSON.parse(first.payload as string)
    expect(key).toMatchObject({ MessageType: 'ua-data', PublisherId: 'works', MessageId: `${about.publicationId}-1` })
    expect(key.Messages[0]).toMatchObject({
      DataSetWriterId: 1,
      DataSetWriterName: 'Zone 7',
      SequenceNumber: 1,
      MetaDataVersion: { MajorVersion: 4 },
      MessageType: 'ua-keyframe',
      Payload: {
        temperature: { UaType: 11, Value: 689.6, SourceTimestamp: '2026-03-04T14:07:12.481Z' },
        cars: { UaType: 8, Value: '-70000' },
        'gas.flow': { UaType: 11, Value: null, StatusCode: { Code: 0x808c0000 } },
      },
    })
    expect(JSON.parse(first.before![0]!.payload as string)).toMatchObject({
      MessageType: 'ua-metadata',
      MetaData: { Name: 'Zone 7', Fields: [{ Name: 'temperature', BuiltInType: 11 }, {}, {}, {}, {}] },
    })
    const delta = JSON.parse(encoder({ parts: [part(cells(), [0, 0, 1, 0, 0])], now: T, seq: 2, whole: false })!.payload as string)
    expect(delta.Messages[0]).toMatchObject({ SequenceNumber: 2, MessageType: 'ua-deltaframe' })
    expect(Object.keys(delta.Messages[0].Payload)).toEqual(['burner'])
  })

  it('UADP: octet by octet (OPC 10000-14 7.2.4)', () => {
    const small = scope([{ ...one, members: [member('a'), member('b', 'boolean')] }], { places: [2] })
    const encoder = encoderOf(
      settings({ kind: 'pubsub-uadp', fields: 'variant', members: 'changed', fullEvery: 0, publisherId: 258, writerGroupId: 3 }),
      small,
    )
    const ticks = (ms: number) => {
      const b = Buffer.alloc(8)
      b.writeBigInt64LE(BigInt(ms + 11_644_473_600_000) * 10_000n)
      return b.toString('hex')
    }
    const at = [cell(1.5, 0, T), cell(true, 0, T)]
    expect(hex(encoder({ parts: [part(at)], now: T, seq: 1, whole: true })!.payload as Uint8Array)).toBe(
      // Version 1 and flags; extended: publisher id UInt16, timestamp; 258; group: id 3, number 1; one writer: 3; time.
      `f1${'21'}0201`.replace('0201', '0201') +
        `09${'0300'}${'0100'}` +
        `01${'0300'}` +
        ticks(T) +
        // Data set: valid, variants, sequence, versions; key frame with time; number 1; time; version 4.4; two fields.
        `e9${'10'}${'0100'}${ticks(T)}${'04000000'}${'04000000'}${'0200'}` +
        `0b${'000000000000f83f'}` +
        `01${'01'}`,
    )
    expect(hex(encoder({ parts: [part(at, [0, 1])], now: T, seq: 2, whole: false })!.payload as Uint8Array)).toContain(
      `e9${'11'}${'0200'}${ticks(T)}${'04000000'}${'04000000'}${'0100'}${'0100'}0101`,
    )
  })

  it('UADP: one number for the writer group over all messages, which grows over restarts; a number for each writer', () => {
    const how = settings({ kind: 'pubsub-uadp', fields: 'variant', metadata: false })
    const numbers = (from: number) => {
      const series = new Series()
      const encoders = [0, 1].map((place) => encoderOf(how, scope([one], { places: [place], series })))
      const out: [number, number][] = []
      for (let seq = from; seq < from + 6; seq++) {
        const b = Buffer.from(encoders[seq % 2]!({ parts: [part(cells())], now: T, seq, whole: true })!.payload as Uint8Array)
        // Behind flags, publisher and group flags stand group id and number; behind head and time the data set's flags and number.
        out.push([b.readUInt16LE(7), b.readUInt16LE(22)])
      }
      return out
    }
    const first = numbers(40)
    expect(first.map(([group]) => group)).toEqual([40, 41, 42, 43, 44, 45])
    expect(first.map(([, writer]) => writer)).toEqual([40, 41, 41, 42, 42, 43])
    const after = numbers(46)
    expect(after.map(([group]) => group)).toEqual([46, 47, 48, 49, 50, 51])
    // Over 65,535 and round.
    expect(numbers(65_534).map(([group]) => group)).toEqual([65_534, 65_535, 0, 1, 2, 3])
  })

  it('UADP: fields as variants carry their status (OPC 10000-14 6.2.4.2)', () => {
    const encoder = encoderOf(settings({ kind: 'pubsub-uadp', fields: 'variant', metadata: false }), about)
    const message = Buffer.from(encoder({ parts: [part(cells())], now: T, seq: 1, whole: true })!.payload as Uint8Array)
    // Uncertain: a DataValue (23) with value and status; bad: the StatusCode (19) in place of the value.
    const text = Buffer.from('FC-12 ü')
    const length = Buffer.alloc(4)
    length.writeInt32LE(text.length)
    expect(message.toString('hex')).toContain(`17030c${length.toString('hex')}${text.toString('hex')}00009040`)
    expect(message.subarray(-5).toString('hex')).toBe('1300008c80')
    const stream = new BinaryStream(message)
    stream.length = message.length - 5
    const variant = decodeVariant(stream)
    expect([variant.dataType, (variant.value as { value: number }).value >>> 0]).toEqual([DataType.StatusCode, 0x808c0000])
    const read = decoderOf(settings({ kind: 'pubsub-uadp', fields: 'variant' }), about)(message)
    expect('readings' in read && read.readings.slice(3).map((r) => [r.value, r.quality, r.reason])).toEqual([
      ['FC-12 ü', 'uncertain', 'stale'],
      [null, 'bad', 'sensor fault'],
    ])
  })

  it('metadata of one message about all: an announcement, or an object, for each data set', () => {
    const both = scope([one, kiln], { places: [0, 1] })
    const input = { parts: [part(cells()), part(kiln.members.map(() => cell(1)))], now: T, seq: 1, whole: true }
    for (const kind of ['pubsub-json', 'pubsub-uadp'] as const) {
      const { before } = encoderOf(settings({ kind, per: 'publication' }), both)(input)!
      expect(before!.map((b) => b.suffix)).toEqual(['/metadata/1', '/metadata/2'])
      if (kind === 'pubsub-json')
        expect(before!.map((b) => JSON.parse(b.payload as string)).map((m) => [m.DataSetWriterId, m.MetaData.Name])).toEqual([
          [1, 'Zone 7'],
          [2, 'Tunnel Kiln 1'],
        ])
    }
  })

  it('metadata as the library of the standard reads it', () => {
    const bytes = announcement(settings({ kind: 'pubsub-uadp' }) as never, about, 0, 9)
    // Head: flags, two extensions, publisher id, kind, sequence, writer id.
    expect(hex(bytes.subarray(0, 10))).toBe('9181' + '08' + '0100' + '02' + '0900' + '0100')
    const stream = new BinaryStream(Buffer.from(bytes))
    stream.length = 10
    const meta = new DataSetMetaDataType()
    meta.decode(stream)
    expect(meta.name).toBe('Zone 7')
    expect(meta.fields!.map((f) => [f.name, f.builtInType])).toEqual([
      ['temperature', 11],
      ['cars', 8],
      ['burner', 1],
      ['curve', 12],
      ['gas.flow', 11],
    ])
    expect(meta.configurationVersion.majorVersion).toBe(4)
    // Each field has an identity of its own, the same in every version and the same as in JSON.
    const ids = meta.fields!.map((f) => String(f.dataSetFieldId).toLowerCase())
    expect(new Set(ids).size).toBe(5)
    expect(ids).toEqual(fieldNames(one).map((f) => f.id))
    expect(ids.every((id) => /^[0-9a-f]{8}-[0-9a-f]{4}-8[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$/.test(id))).toBe(true)
    expect(fieldNames({ ...one, name: 'Renamed', members: one.members.slice(1) }).map((f) => f.id)).toEqual(ids.slice(1))
    // What is left is the status.
    expect(hex(bytes.subarray(stream.length))).toBe('00000000')
  })
})
