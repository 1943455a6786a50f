import type { PlanEquipment } from '~/contract/publication'
import type { Settings } from '~/contract/shape'
import { wellFormed } from '../value/well-formed'
import { newest } from './choose'
import { flatSchema, flatWriter, readFlat } from './flat-json'
import { isObject, readJson, timeSchema } from './json-reading'
import { nestedSchema, nestedWriter, readNested } from './nested-json'
import { oneOf } from './schema'
import type { Decoded, Shape } from './shape'
import { isoTime, jsonTime, readTime } from './text'

type How = Settings<'cloudevents'>

const escaped = (name: string) => encodeURIComponent(wellFormed(name))

/** Where the event comes from: the path of the equipment under the given reference, each name escaped (RFC 3986 2.1). */
export const eventSource = (how: Pick<How, 'source'>, one: PlanEquipment) =>
  [how.source.replace(/\/+$/, ''), ...one.path.slice(0, -1).map(escaped)].join('/') || '/'

function dataSchema(how: How, one: PlanEquipment) {
  const { properties, required } = how.data === 'flat' ? flatSchema(how, one.members) : nestedSchema(how, one)
  return {
    type: 'object',
    properties: { at: timeSchema(how.time), ...properties },
    required: ['at', ...required],
    additionalProperties: false,
  }
}

/**
 * CloudEvents 1.0: each message an event whose data is JSON. Structured (JSON Event Format): everything in the payload.
 * Binary: the payload is the data, the attributes are headers, in MQTT 5 user properties (MQTT Protocol Binding 3.1).
 * `id` is unique under its source: the publication and the number of the message.
 */
export const cloudEvents: Shape<'cloudevents'> = {
  kind: 'cloudevents',
  label: 'CloudEvents',
  standard: 'CloudEvents 1.0',
  reserved: () => ['at', 'quality'],
  contentType: (s) => (s.mode === 'structured' ? 'application/cloudevents+json; charset=utf-8' : 'application/json'),
  grouping: () => 'equipment',
  summary: (s) => `CloudEvents 1.0, ${s.mode}, ${s.data} JSON as data`,
  encoder(settings, scope) {
    const one = scope.equipment[0]!
    const body = settings.data === 'flat' ? flatWriter(settings, one.members) : nestedWriter(settings, one)
    const time = jsonTime(settings.time, settings.zone)
    const source = eventSource(settings, one)
    const { publicationId } = scope
    const fixed = `"source":${JSON.stringify(source)},"type":${JSON.stringify(settings.type)},"subject":${JSON.stringify(one.name)}`
    return ({ parts, now, seq, whole }) => {
      const at = newest(parts[0]!.cells, now)
      const data = `{"at":${time(at)}${body(parts[0]!, at, whole)}}`
      const id = `${publicationId}-${seq}`
      const when = isoTime(at)
      if (settings.mode === 'structured')
        return { at, payload: `{"specversion":"1.0","id":"${id}",${fixed},"time":"${when}","datacontenttype":"application/json","data":${data}}` }
      return {
        at,
        payload: data,
        headers: [
          ['specversion', '1.0'],
          ['id', id],
          ['source', source],
          ['type', settings.type],
          ['subject', one.name],
          ['time', when],
        ],
      }
    }
  },
  decoder(settings, scope) {
    const one = scope.equipment[0]!
    return (bytes, headers): Decoded => {
      const read = readJson(bytes)
      if ('problem' in read) return read
      let data = read.json
      if (settings.mode === 'structured') {
        if (!isObject(data)) return { problem: 'It is not a JSON object', at: 0 }
        for (const name of ['specversion', 'id', 'source', 'type'])
          if (typeof data[name] !== 'string' || data[name] === '') return { problem: `The attribute ${name} is missing`, at: null }
        if (data.specversion !== '1.0') return { problem: `It is of version ${data.specversion}, not 1.0`, at: null }
        data = data.data
      } else if (headers)
        for (const name of ['specversion', 'id', 'source', 'type']) if (!headers[name]) return { problem: `The header ${name} is missing`, at: null }
      if (!isObject(data)) return { problem: 'Its data is not a JSON object', at: null }
      const at = readTime(data.at, settings.time)
      return { kind: 'event', at, readings: settings.data === 'flat' ? readFlat(data, one.members, at) : readNested(data, one, null, at) }
    }
  },
  headers(settings, all) {
    if (settings.mode === 'structured') return []
    const sources = new Set(all.map((s) => eventSource(settings, s.equipment[0]!)))
    const names = new Set(all.map((s) => s.equipment[0]!.name))
    const single = (of: Set<string>) => (of.size === 1 ? [...of][0]! : null)
    return [
      ['specversion', '1.0'],
      ['id', null],
      ['source', single(sources)],
      ['type', settings.type],
      ['subject', single(names)],
      ['time', null],
    ]
  },
  describe(settings, scope, all = [scope]) {
    const one = scope.equipment[0]!
    const $schema = 'https://json-schema.org/draft/2020-12/schema'
    const data = dataSchema(settings, one)
    if (settings.mode === 'binary') return { language: 'schema', content: { $schema, title: one.className, ...data } }
    return {
      language: 'schema',
      content: {
        $schema,
        title: one.className,
        type: 'object',
        properties: {
          specversion: { const: '1.0' },
          id: { type: 'string', minLength: 1 },
          source: oneOf(
            all.map((s) => eventSource(settings, s.equipment[0]!)),
            { type: 'string', format: 'uri-reference', minLength: 1 },
          ),
          type: { const: settings.type },
          subject: oneOf(
            all.map((s) => s.equipment[0]!.name),
            { type: 'string', minLength: 1 },
          ),
          time: { type: 'string', format: 'date-time' },
          datacontenttype: { const: 'application/json' },
          data,
        },
        required: ['specversion', 'id', 'source', 'type', 'data'],
        additionalProperties: false,
      },
    }
  },
}
