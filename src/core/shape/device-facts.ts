import { isObject, readJson, timeSchema } from './json-reading'
import type { Decoded, Reading, Shape } from './shape'
import { jsonTime, readTime } from './text'

/**
 * Housekeeping: what the sender and the equipment are, no values. `node` is the engine: name, version, since when it runs and
 * for how many seconds; `equipment` has each with its path, class and facts (serial number, maker, firmware).
 */
export const deviceFacts: Shape<'device-facts'> = {
  kind: 'device-facts',
  label: 'Device facts',
  standard: 'RFC 8259',
  reserved: () => [],
  contentType: () => 'application/json',
  grouping: () => 'publication',
  summary: () => 'housekeeping: facts of the node and of the equipment',
  encoder(settings, scope) {
    const time = jsonTime(settings.time, settings.zone)
    const host = scope.host ?? { name: '', version: '', startedAt: 0 }
    const equipment = JSON.stringify(
      scope.equipment.map((e) => ({ name: e.name, path: e.path.join('/'), class: e.className, classVersion: e.classVersion, facts: e.facts })),
    )
    const node = `{"name":${JSON.stringify(host.name)},"version":${JSON.stringify(host.version)},"startedAt":${time(host.startedAt)},"uptimeS":`
    return ({ now }) => ({
      at: now,
      payload: `{"at":${time(now)},"node":${node}${Math.max(0, Math.round((now - host.startedAt) / 1000))}},"equipment":${equipment}}`,
    })
  },
  decoder(settings, scope) {
    return (bytes): Decoded => {
      const read = readJson(bytes)
      if ('problem' in read) return read
      if (!isObject(read.json) || !Array.isArray(read.json.equipment)) return { problem: 'It has no list called equipment', at: 0 }
      const at = readTime(read.json.at, settings.time)
      const names = new Set(scope.equipment.map((e) => e.name))
      const readings = read.json.equipment.flatMap((e): Reading[] => {
        if (!isObject(e) || typeof e.name !== 'string' || !names.has(e.name) || !isObject(e.facts)) return []
        const name = e.name
        return Object.entries(e.facts).flatMap(([fact, value]) =>
          typeof value === 'string' || typeof value === 'number' || typeof value === 'boolean'
            ? [{ equipment: name, member: fact, value, quality: 'good' as const, reason: '', time: at }]
            : [],
        )
      })
      return { kind: 'facts', at, readings }
    }
  },
  describe: (settings) => ({
    language: 'schema',
    content: {
      $schema: 'https://json-schema.org/draft/2020-12/schema',
      type: 'object',
      properties: {
        at: timeSchema(settings.time),
        node: {
          type: 'object',
          properties: { name: { type: 'string' }, version: { type: 'string' }, startedAt: timeSchema(settings.time), uptimeS: { type: 'integer' } },
          required: ['name', 'version', 'startedAt', 'uptimeS'],
        },
        equipment: {
          type: 'array',
          items: {
            type: 'object',
            properties: {
              name: { type: 'string' },
              path: { type: 'string' },
              class: { type: 'string' },
              classVersion: { type: 'integer' },
              facts: { type: 'object', additionalProperties: { type: ['string', 'number', 'boolean'] } },
            },
            required: ['name', 'path', 'class', 'facts'],
          },
        },
      },
      required: ['at', 'node', 'equipment'],
      additionalProperties: false,
    },
  }),
}
