// A receiver that knows only the AsyncAPI document it was handed: every message is held against it.
import { gunzipSync, inflateSync } from 'node:zlib'
import { Zstd } from '@hpcc-js/wasm-zstd'
import Ajv2020, { type ValidateFunction } from 'ajv/dist/2020.js'
import avro from 'avsc'

interface Payload {
  schemaFormat: string
  schema: object
}
interface Document {
  channels: Record<string, { address: string; messages: Record<string, { $ref: string }> }>
  components: { messages: Record<string, { headers?: object; payload: Payload }> }
}
export interface Received {
  topic: string
  payload: Buffer
  headers: Record<string, string>
}

interface Compiled {
  headers: ValidateFunction | null
  payload: (b: Buffer) => string | null
}

const escaped = (text: string) => text.replace(/[.*+?^$|()[\]\\]/g, '\\$&')

/** What reads messages as the document tells; null: all is as told, else what is not, and undefined where no channel has the topic. */
export async function receiver(document: object): Promise<(m: Received) => string | null | undefined> {
  const doc = document as Document
  const zstd = await Zstd.load()
  const ajv = new Ajv2020({ strict: false, formats: { 'date-time': true, 'uri-reference': true } })
  const compiled = new Map<string, Compiled>()
  for (const [name, m] of Object.entries(doc.components.messages))
    compiled.set(name, { headers: m.headers ? ajv.compile(m.headers) : null, payload: payloadOf(ajv, m.payload) })
  const channels = Object.values(doc.channels).map((c) => ({
    topic: new RegExp(
      `^${c.address
        .split(/(\{[^{}]+\})/)
        .map((p) => (p.startsWith('{') ? '.+?' : escaped(p)))
        .join('')}$`,
    ),
    fixed: !c.address.includes('{'),
    messages: Object.values(c.messages).map((m) => m.$ref.split('/').at(-1)!),
  }))
  // What names its topic to the letter comes before what leaves levels open.
  channels.sort((a, b) => Number(b.fixed) - Number(a.fixed))
  return ({ topic, payload, headers }) => {
    const channel = channels.find((c) => c.topic.test(topic))
    if (!channel) return undefined
    const said = channel.messages.map((name) => against(compiled.get(name)!, { topic, payload, headers }))
    // What shares a channel is one of its messages.
    return said.includes(null) ? null : said[0]!
  }

  function against({ headers: told, payload: read }: Compiled, { topic, payload, headers }: Received): string | null {
    if (told && !told(headers)) return `headers of ${topic}: ${ajv.errorsText(told.errors)}`
    const coding = headers['content-encoding']
    const plain =
      coding === 'gzip'
        ? gunzipSync(payload)
        : coding === 'deflate'
          ? inflateSync(payload)
          : coding === 'zstd'
            ? Buffer.from(zstd.decompress(payload))
            : payload
    const problem = read(plain)
    return problem === null ? null : `${topic}: ${problem} in ${plain.toString('utf8').slice(0, 300)}`
  }
}

function payloadOf(ajv: Ajv2020, { schemaFormat, schema }: Payload): (b: Buffer) => string | null {
  if (schemaFormat.includes('avro')) {
    const type = avro.Type.forSchema(schema as never, { wrapUnions: false })
    return (b) => {
      // A single object begins with two octets and a fingerprint (Avro, "Single object encoding").
      const datum = b[0] === 0xc3 && b[1] === 0x01 ? b.subarray(10) : b
      return type.isValid(type.fromBuffer(datum)) ? null : 'is no such record'
    }
  }
  if (!schemaFormat.includes('schema+json')) return () => null
  const check = ajv.compile(schema)
  return (b) => {
    // Of CBOR and MessagePack the schema tells what is in the octets.
    if (b.length > 0 && b[0] !== 0x7b && b[0] !== 0x5b) return null
    return check(JSON.parse(b.toString('utf8'))) ? null : ajv.errorsText(check.errors)
  }
}
