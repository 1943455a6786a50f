import { chooser, markOf, Take, timeOr } from './choose'
import { isObject, readingOf, readJson, timeSchema } from './json-reading'
import { valueSchema } from './schema'
import type { Decoded, Encoder, Scope, Shape } from './shape'
import { fromJson, jsonTime, jsonValue, plainValue, readTime } from './text'

const utf8 = new TextDecoder('utf-8', { fatal: true })

const memberOf = (scope: Scope) => scope.equipment[0]!.members[0]!

/**
 * One topic a member, the payload its value as text and nothing else: `689.6`, `true`, `FC-12`. No value is an empty payload;
 * MQTT takes an empty retained one for an order to forget the last (3.3.1.3).
 */
export const bareValue: Shape<'value'> = {
  kind: 'value',
  label: 'Bare value',
  standard: 'text, UTF-8',
  reserved: () => [],
  contentType: () => 'text/plain',
  grouping: () => 'member',
  summary: () => 'the bare value, one topic a member',
  encoder(settings, scope): Encoder {
    const text = plainValue(settings)
    const own = jsonTime(settings.time, settings.zone)
    const isTime = memberOf(scope).dataType === 'time'
    const { take, choose } = chooser(settings, 1)
    return ({ parts, now }) => {
      const part = parts[0]!
      choose(part, true)
      if (take[0] === Take.nothing) return null
      const cell = part.cells[0]!
      const value = take[0] === Take.value ? cell.value : take[0] === Take.lastGood ? cell.goodValue : null
      const written = isTime && typeof value === 'string' && settings.time !== 'iso' ? own(Date.parse(value)).replaceAll('"', '') : text(value)
      return { at: timeOr(cell, now), payload: written }
    }
  },
  decoder(settings, scope) {
    const m = memberOf(scope)
    return (bytes): Decoded => {
      let text: string
      try {
        text = utf8.decode(bytes)
      } catch {
        return { problem: 'It is not UTF-8 text', at: null }
      }
      if (text === '') {
        const value = m.dataType === 'text' ? '' : null
        return {
          kind: 'value',
          at: null,
          readings: [
            { equipment: null, member: m.key, value, quality: value === null ? 'bad' : 'good', reason: value === null ? 'no value' : '', time: null },
          ],
        }
      }
      const value =
        m.dataType === 'time' && settings.time !== 'iso' ? new Date(readTime(text, settings.time) ?? Number.NaN) : fromJson(text, m.dataType)
      const read = value instanceof Date ? (Number.isNaN(value.getTime()) ? undefined : value.toISOString()) : value
      if (read === undefined) return { problem: `"${text.slice(0, 40)}" is no ${m.dataType}`, at: 0 }
      return { kind: 'value', at: null, readings: [{ equipment: null, member: m.key, value: read, quality: 'good', reason: '', time: null }] }
    }
  },
  describe(_settings, scope) {
    const m = memberOf(scope)
    return {
      language: 'text',
      content: `The value as UTF-8 text: ${m.dataType}${m.unit ? ` in ${m.unit}` : ''}. Nothing for no value.`,
    }
  },
}

/** One topic a member, its payload a JSON object with the value, its quality and its time, under names of one's own. */
export const valueQualityTime: Shape<'value-quality-time'> = {
  kind: 'value-quality-time',
  label: 'Value, quality, time',
  standard: 'RFC 8259',
  reserved: () => [],
  contentType: () => 'application/json',
  grouping: () => 'member',
  summary: (s) => `JSON with ${s.valueName}, ${s.qualityName} and ${s.timeName}, one topic a member`,
  problems: (s) => {
    const names = [s.valueName, s.qualityName, s.timeName, ...(s.unitName ? [s.unitName] : [])]
    return new Set(names).size < names.length ? ['Two of its fields have the same name'] : []
  },
  encoder(settings, scope): Encoder {
    const text = jsonValue(settings)
    const time = jsonTime(settings.time, settings.zone)
    const head = `{${JSON.stringify(settings.valueName)}:`
    const quality = `,${JSON.stringify(settings.qualityName)}:`
    const when = `,${JSON.stringify(settings.timeName)}:`
    const tail = settings.unitName ? `,${JSON.stringify(settings.unitName)}:${JSON.stringify(memberOf(scope).unit)}}` : '}'
    const { take, choose } = chooser(settings, 1)
    return ({ parts, now }) => {
      const part = parts[0]!
      choose(part, true)
      if (take[0] === Take.nothing) return null
      const cell = part.cells[0]!
      const at = timeOr(cell, now)
      const value = take[0] === Take.value ? text(cell.value) : take[0] === Take.lastGood ? text(cell.goodValue) : 'null'
      const mark = cell.status >>> 30 === 0 ? '"good"' : JSON.stringify(markOf(cell, take[0]!, at))
      return { at, payload: `${head}${value}${quality}${mark}${when}${time(at)}${tail}` }
    }
  },
  decoder(settings, scope) {
    const m = memberOf(scope)
    return (bytes): Decoded => {
      const read = readJson(bytes)
      if ('problem' in read) return read
      const { json } = read
      if (!isObject(json)) return { problem: 'It is not a JSON object', at: 0 }
      if (!Object.hasOwn(json, settings.valueName)) return { problem: `It has no ${settings.valueName}`, at: null }
      const at = readTime(json[settings.timeName], settings.time)
      return { kind: 'value', at, readings: [readingOf(null, m, json[settings.valueName], json[settings.qualityName], at)] }
    }
  },
  describe(settings, scope) {
    const m = memberOf(scope)
    return {
      language: 'schema',
      content: {
        $schema: 'https://json-schema.org/draft/2020-12/schema',
        type: 'object',
        properties: {
          [settings.valueName]: valueSchema(m, settings),
          [settings.qualityName]: { type: 'string', pattern: '^(good|uncertain|bad)' },
          [settings.timeName]: timeSchema(settings.time),
          ...(settings.unitName && { [settings.unitName]: { const: m.unit } }),
        },
        required: [settings.valueName, settings.qualityName, settings.timeName, ...(settings.unitName ? [settings.unitName] : [])],
        additionalProperties: false,
      },
    }
  },
}
