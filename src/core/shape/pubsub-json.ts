import type { PlanEquipment } from '~/contract/publication'
import type { Settings } from '~/contract/shape'
import { newest } from './choose'
import { isObject, readJson } from './json-reading'
import {
  BUILT_IN,
  fieldNames,
  fieldOf,
  fieldsOf,
  metadataDue,
  metadataSuffix,
  metadataSuffixes,
  pubsubReading,
  WRITERS_MAX,
  writerProblems,
} from './pubsub'
import { oneOf } from './schema'
import { type Decoded, type Encoder, type Reading, type Scope, Series, type Shape } from './shape'
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
  const writers = equipment.map(() => new Series())
  const due = metadataDue(how.metadata)
  const publisher = JSON.stringify(how.publisherId)
  // One object a message, about one data set (7.2.5.5.2).
  const metadata = () =>
    equipment.map((one, e) => ({
      suffix: metadataSuffix(scope, e),
      payload: JSON.stringify({
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
            DataSetFieldId: f.id,
          })),
          ConfigurationVersion: { MajorVersion: scope.version, MinorVersion: scope.version },
        },
      }),
    }))
  return ({ parts, now, seq, whole: all }) => {
    let at = Number.NEGATIVE_INFINITY
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
        if (!Number.isNaN(cell.time)) payload += `,"SourceTimestamp":"${isoTime(cell.time)}"`
        payload += '}'
      }
      const kind = all || !onlyChanged ? 'ua-keyframe' : 'ua-deltaframe'
      messages.push(
        `${heads[e]}${writers[e]!.next(seq) >>> 0},${version},"Timestamp":"${isoTime(own)}","MessageType":"${kind}","Payload":{${payload}}}`,
      )
    }
    if (messages.length === 0) return null
    return {
      at,
      payload: `{"MessageId":"${scope.publicationId}-${seq}","MessageType":"ua-data","PublisherId":${publisher},"Messages":[${messages.join(',')}]}`,
      ...(due(now) && { before: metadata() }),
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

/** Which data set it is: that of one of the equipment at this place of the scopes. */
const writerSchema = (all: readonly Scope[], e: number) => ({
  DataSetWriterId: oneOf(
    all.map((s) => s.places[e]! + 1),
    { type: 'integer', minimum: 1, maximum: WRITERS_MAX },
  ),
  DataSetWriterName: oneOf(
    all.map((s) => s.equipment[e]!.name),
    { type: 'string', minLength: 1 },
  ),
})

function metadataSchema(how: How, scope: Scope, all: readonly Scope[]) {
  const of = (one: PlanEquipment, e: number) => ({
    type: 'object',
    properties: {
      MessageId: { type: 'string' },
      MessageType: { const: 'ua-metadata' },
      PublisherId: { const: how.publisherId },
      DataSetWriterId: writerSchema(all, e).DataSetWriterId,
      MetaData: {
        type: 'object',
        properties: {
          Name: writerSchema(all, e).DataSetWriterName,
          Fields: {
            type: 'array',
            prefixItems: fieldNames(one).map((f) => ({
              type: 'object',
              properties: { Name: { const: f.name }, BuiltInType: { const: f.type } },
              required: ['Name', 'BuiltInType', 'DataSetFieldId'],
            })),
            items: false,
          },
        },
        required: ['Name', 'Fields', 'ConfigurationVersion'],
      },
    },
    required: ['MessageId', 'MessageType', 'PublisherId', 'DataSetWriterId', 'MetaData'],
    additionalProperties: false,
  })
  const each = scope.equipment.map(of)
  return { $schema: 'https://json-schema.org/draft/2020-12/schema', ...(each.length === 1 ? each[0]! : { anyOf: each }) }
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
  problems: (_s, equipment) => writerProblems(equipment),
  suffixes: metadataSuffixes,
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
  describeBefore(settings, scope, all = [scope]) {
    return { language: 'schema', content: metadataSchema(settings, scope, all) }
  },
  describe(settings, scope, all = [scope]) {
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
        ...writerSchema(all, e),
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
