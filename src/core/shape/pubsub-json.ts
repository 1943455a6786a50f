import type { PlanEquipment } from '~/contract/publication'
import type { Settings } from '~/contract/shape'
import { newest } from './choose'
import { isObject, readJson } from './json-reading'
import { BUILT_IN, fieldNames, fieldOf, fieldsOf, metadataDue, pubsubReading } from './pubsub'
import type { Decoded, Encoder, Reading, Scope, Shape } from './shape'
import { fromJson, isoTime } from './text'

type How = Settings<'pubsub-json'>

/** A value in the JSON encoding of OPC 10000-6 5.4: Int64 as a text (5.4.2.3), NaN and infinities as texts (5.4.2.4). */
function body(value: ReturnType<typeof fieldOf>['value'], whole: boolean): string {
  if (typeof value === 'bigint') return `"${value}"`
  if (typeof value === 'number') return whole || !Number.isFinite(value) ? `"${value}"` : String(value)
  return JSON.stringify(value)
}

function encoder(how: How, scope: Scope): Encoder {
  const { equipment } = scope
  const onlyChanged = how.members === 'changed'
  const version = `"MetaDataVersion":{"MajorVersion":${scope.version},"MinorVersion":${scope.version}}`
  const heads = equipment.map(
    (one, e) => `{"DataSetWriterId":${scope.places[e]! + 1},"DataSetWriterName":${JSON.stringify(one.name)},"SequenceNumber":`,
  )
  const fields = equipment.map((one) => one.members.map((m) => `${JSON.stringify(m.key)}:{"UaType":${BUILT_IN[m.dataType]},"Value":`))
  const whole = equipment.map((one) => one.members.map((m) => m.dataType === 'integer'))
  const sequence = equipment.map(() => 0)
  const due = metadataDue(how.metadata)
  const publisher = JSON.stringify(how.publisherId)
  const metadata = () =>
    JSON.stringify(
      equipment.map((one, e) => ({
        MessageId: `${scope.publicationId}-${scope.version}-${scope.places[e]! + 1}`,
        MessageType: 'ua-metadata',
        PublisherId: how.publisherId,
        DataSetWriterId: scope.places[e]! + 1,
        MetaData: {
          Name: one.name,
          Fields: fieldNames(one).map((f) => ({
            Name: f.name,
            Description: { Text: f.description },
            BuiltInType: f.type,
            DataType: `i=${f.type}`,
            ValueRank: -1,
          })),
          ConfigurationVersion: { MajorVersion: scope.version, MinorVersion: scope.version },
        },
      })),
    )
  return ({ parts, now, seq, whole: all }) => {
    let at = 0
    const messages: string[] = []
    for (let e = 0; e < parts.length; e++) {
      const part = parts[e]!
      const chosen = fieldsOf(part, all, onlyChanged)
      if (chosen.length === 0) continue
      const own = newest(part.cells, now)
      if (own > at) at = own
      let payload = ''
      for (const i of chosen) {
        const cell = part.cells[i]!
        const { value, status } = fieldOf(cell, equipment[e]!.members[i]!.dataType)
        payload += `${payload ? ',' : ''}${fields[e]![i]}${body(value, whole[e]![i]!)}`
        if (status !== 0) payload += `,"StatusCode":{"Code":${status >>> 0}}`
        if (cell.time > 0) payload += `,"SourceTimestamp":"${isoTime(cell.time)}"`
        payload += '}'
      }
      sequence[e] = (sequence[e]! + 1) >>> 0
      const kind = all || !onlyChanged ? 'ua-keyframe' : 'ua-deltaframe'
      messages.push(`${heads[e]}${sequence[e]},${version},"Timestamp":"${isoTime(own)}","MessageType":"${kind}","Payload":{${payload}}}`)
    }
    if (messages.length === 0) return null
    return {
      at,
      payload: `{"MessageId":"${scope.publicationId}-${seq}","MessageType":"ua-data","PublisherId":${publisher},"Messages":[${messages.join(',')}]}`,
      ...(due(now) && { before: { payload: metadata(), topicSuffix: '/metadata' } }),
    }
  }
}

/** A data value as others may write it too: `{Value: {Type, Body}}` of before version 1.05, or the bare value. */
function dataValue(raw: unknown): { value: unknown; status: number; time: number | null } {
  if (!isObject(raw)) return { value: raw, status: 0, time: null }
  const code = isObject(raw.StatusCode) ? raw.StatusCode.Code : (raw.StatusCode ?? raw.Status)
  const at = typeof raw.SourceTimestamp === 'string' ? Date.parse(raw.SourceTimestamp) : Number.NaN
  const value = isObject(raw.Value) && 'Body' in raw.Value ? raw.Value.Body : raw.Value
  return { value, status: typeof code === 'number' ? code >>> 0 : 0, time: Number.isFinite(at) ? at : null }
}

function readings(raw: Record<string, unknown>, one: PlanEquipment, at: number | null): Reading[] {
  const payload = isObject(raw.Payload) ? raw.Payload : {}
  return one.members.flatMap((m): Reading[] => {
    if (!Object.hasOwn(payload, m.key)) return []
    const d = dataValue(payload[m.key])
    const value = fromJson(d.value, m.dataType)
    return [value === undefined ? pubsubReading(one.name, m, null, 0x80740000, at) : pubsubReading(one.name, m, value, d.status, d.time ?? at)]
  })
}

/** OPC UA PubSub, JSON mapping (OPC 10000-14 7.2.5, 1.05): network messages with a data set message an equipment. */
export const pubsubJson: Shape<'pubsub-json'> = {
  kind: 'pubsub-json',
  wholes: 'signed-64',
  label: 'OPC UA PubSub, JSON',
  standard: 'OPC 10000-14',
  reserved: () => [],
  contentType: () => 'application/json',
  grouping: (s) => s.per,
  summary: (s) => `OPC UA PubSub as JSON${s.members === 'changed' ? `, delta frames, a key frame every ${s.fullEvery}` : ', key frames'}`,
  suffixes: (s) => (s.metadata ? ['/metadata'] : []),
  encoder,
  decoder(_settings, scope) {
    return (bytes): Decoded => {
      const read = readJson(bytes)
      if ('problem' in read) return read
      const { json } = read
      if (!isObject(json)) return { problem: 'It is not a JSON object', at: 0 }
      if (json.MessageType === 'ua-metadata') return { kind: 'metadata', at: null, readings: [] }
      if (!Array.isArray(json.Messages)) return { problem: 'It has no Messages', at: null }
      let at: number | null = null
      let kind = 'key frame'
      const all = json.Messages.flatMap((m: unknown) => {
        if (!isObject(m)) return []
        const e = scope.places.findIndex((p) => p + 1 === m.DataSetWriterId)
        if (e < 0) return []
        if (m.MessageType === 'ua-deltaframe') kind = 'delta frame'
        const own = typeof m.Timestamp === 'string' && Number.isFinite(Date.parse(m.Timestamp)) ? Date.parse(m.Timestamp) : null
        if (own !== null && (at === null || own > at)) at = own
        return readings(m, scope.equipment[e]!, own)
      })
      return { kind, at, readings: all }
    }
  },
  describe(settings, scope) {
    const value = (type: number) => ({
      type: 'object',
      properties: {
        UaType: { const: type },
        Value: { type: ['number', 'string', 'boolean', 'null'] },
        StatusCode: { type: 'object', properties: { Code: { type: 'integer' } }, required: ['Code'] },
        SourceTimestamp: { type: 'string', format: 'date-time' },
      },
      required: ['UaType', 'Value'],
      additionalProperties: false,
    })
    const messages = scope.equipment.map((one, e) => ({
      type: 'object',
      properties: {
        DataSetWriterId: { const: scope.places[e]! + 1 },
        DataSetWriterName: { const: one.name },
        SequenceNumber: { type: 'integer' },
        MetaDataVersion: { type: 'object' },
        Timestamp: { type: 'string', format: 'date-time' },
        MessageType: { enum: ['ua-keyframe', 'ua-deltaframe'] },
        Payload: { type: 'object', properties: Object.fromEntries(fieldNames(one).map((f) => [f.name, value(f.type)])), additionalProperties: false },
      },
      required: ['DataSetWriterId', 'SequenceNumber', 'Timestamp', 'MessageType', 'Payload'],
    }))
    return {
      language: 'schema',
      content: {
        $schema: 'https://json-schema.org/draft/2020-12/schema',
        type: 'object',
        properties: {
          MessageId: { type: 'string' },
          MessageType: { const: 'ua-data' },
          PublisherId: { const: settings.publisherId },
          Messages: { type: 'array', items: { anyOf: messages } },
        },
        required: ['MessageId', 'MessageType', 'PublisherId', 'Messages'],
        additionalProperties: false,
      },
    }
  },
}
