import { readFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import Ajv from 'ajv'
import { describe, expect, it } from 'vitest'
import type { StreamSettings } from '~/contract/destinations/stream'
import type { Plan } from '~/contract/publication'
import { type ShapeInput, ShapeSettings } from '~/contract/shape'
import { addressKinds } from '../address/kinds'
import { mqttAddress } from '../address/kinds/mqtt'
import { kiln, member } from '../shape/shape-samples'
import { asyncApi, contractOf } from './contract'

const schema = JSON.parse(readFileSync(createRequire(import.meta.url).resolve('@asyncapi/specs/schemas/3.0.0-without-$id.json'), 'utf8')) as object
const valid = new Ajv({ strict: false, validateFormats: false, allErrors: false }).compile(schema)

const zones = [1, 2, 3].map((n) => ({
  ...kiln,
  id: `z${n}`,
  name: `Zone ${n}`,
  className: 'Kiln Zone',
  members: [member('temperature'), member('order', 'text')],
}))
const plan = (shape: ShapeInput, place: Plan['messages'][number]['place'] = 'x'): Plan => ({
  publicationId: 'p',
  name: 'Kiln zones',
  number: 4,
  delivery: 1,
  destinationId: 'd',
  trigger: { kind: 'change' },
  shape: ShapeSettings.parse(shape),
  address: { ...mqttAddress.fresh, retain: true, expiryS: 60 },
  contentType: 'application/json',
  reads: ['#'],
  equipment: [...zones, kiln],
  messages: [0, 1, 2, 3].map((i) => ({
    equipment: [i],
    members: null,
    steering: [],
    place: place === 'x' ? `varnmoor/zone-${i}/state` : place,
    key: '',
    headers: [],
    responseTopic: '',
  })),
})
const server = { name: 'Site broker', host: 'broker.example:8883', protocol: 'secure-mqtt', version: '5', headers: true }

/** Everything that is pointed at is there. */
function pointers(doc: unknown, at: unknown = doc): string[] {
  if (typeof at !== 'object' || at === null) return []
  return Object.entries(at).flatMap(([key, v]) => {
    if (key !== '$ref' || typeof v !== 'string') return pointers(doc, v)
    const found = v
      .slice(2)
      .split('/')
      .reduce<unknown>((o, part) => (o as Record<string, unknown> | undefined)?.[part.replaceAll('~1', '/')], doc)
    return found === undefined ? [v] : []
  })
}

describe('what receivers are given', () => {
  it.each<ShapeInput>([{ kind: 'flat-json' }, { kind: 'avro' }, { kind: 'sparkplug-b' }, { kind: 'value' }])(
    'an AsyncAPI 3.0 document, valid by its schema: %j',
    (shape) => {
      const doc = asyncApi(plan(shape), server, () => ({ temperature: 689.6 }))
      expect(valid(doc), JSON.stringify(valid.errors?.slice(0, 3))).toBe(true)
      expect(pointers(doc)).toEqual([])
      const { channels, operations, components } = doc as {
        channels: Record<string, { address: string }>
        operations: object
        components: { messages: object }
      }
      expect(Object.values(channels).map((c) => c.address)).toEqual([0, 1, 2, 3].map((i) => `varnmoor/zone-${i}/state`))
      expect(Object.keys(operations)).toHaveLength(4)
      // Three zones look alike, the kiln does not; of metrics and fingerprints each tells its own.
      expect(Object.keys(components.messages).length).toBeGreaterThanOrEqual(2)
    },
  )

  it('parts of an address that wait for values are parameters', () => {
    const doc = asyncApi(
      plan({ kind: 'flat-json' }, [
        'varnmoor/',
        { take: 'value', member: 1, filters: [], rule: 'slug' },
        '/',
        { take: 'time', part: 'year', filters: [], rule: 'slug' },
      ]),
      server,
      () => null,
    )
    expect(valid(doc), JSON.stringify(valid.errors?.slice(0, 3))).toBe(true)
    const [first] = Object.values((doc as { channels: Record<string, { address: string; parameters: object }> }).channels)
    expect(first).toMatchObject({
      address: 'varnmoor/{value_order}/{time_year}',
      parameters: { value_order: {}, time_year: { description: expect.stringContaining('varnmoor/+/+') } },
    })
  })

  it('of a stream: topics, a key, headers, and nothing of MQTT', () => {
    const over = { ...plan({ kind: 'flat-json' }, 'varnmoor.kiln'), address: { ...addressKinds.stream.fresh, key: '{name}' } }
    const cluster = addressKinds.stream.server({ servers: 'k1:9092, k2:9092', tls: true } as StreamSettings)
    const doc = asyncApi(over, { name: 'Works stream', ...cluster }, () => null)
    expect(valid(doc), JSON.stringify(valid.errors?.slice(0, 3))).toBe(true)
    expect(pointers(doc)).toEqual([])
    expect(doc.servers).toEqual({ 'Works-stream': { host: 'k1:9092', protocol: 'kafka-secure' } })
    expect(JSON.stringify(doc)).not.toContain('mqtt')
    expect(Object.values((doc.components as { messages: object }).messages)[0]).toMatchObject({ bindings: { kafka: { key: { type: 'string' } } } })
  })

  it('a schema for each way in which messages look, with their topics and an example', () => {
    const c = contractOf(plan({ kind: 'flat-json' }), (place) => ({ place }))
    expect(c).toMatchObject({
      publication: 'Kiln zones',
      format: 'Flat JSON',
      contentType: 'application/json',
      compression: 'none',
    })
    expect(c.messages.map((m) => m.example)).toEqual([{ place: 0 }, { place: 3 }])
    expect(c.messages.map((m) => [m.title, m.topicCount])).toEqual([
      ['Kiln Zone', 3],
      ['Tunnel Kiln', 1],
    ])
    expect(c.messages[0]!.description).toMatchObject({
      properties: { temperature: { type: ['number', 'null'] }, order: { type: ['string', 'null'] } },
    })
  })
})
