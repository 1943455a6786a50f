import Papa from 'papaparse'
import type { PlanEquipment, PlanMember } from '~/contract/publication'
import type { Settings } from '~/contract/shape'
import { chooser, markOf, newest, Take, timeOr } from './choose'
import { isObject, readingOf, readJson, timeSchema } from './json-reading'
import { valueSchema } from './schema'
import type { Decoded, Encoder, Reading, Shape } from './shape'
import { jsonTime, jsonValue, plainValue, readTime, timeText } from './text'

type How = Settings<'rows'>
const utf8 = new TextDecoder('utf-8', { fatal: true })
const numeric = (m: PlanMember) => m.dataType === 'number' || m.dataType === 'integer'

/** A field of CSV (RFC 4180 2.6): in quotes when it must be, and when it is an empty text rather than nothing. */
const field = (text: string) => (text === '' || /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text)

/** Columns of narrow rows. */
const narrow = (how: How) => ['equipment', 'name', ...(how.apart ? ['number', 'text'] : ['value']), 'quality', 'at']
/** Members that wide rows have a column for: those of all equipment, each name once. */
const wideKeys = (equipment: readonly PlanEquipment[]) => [...new Set(equipment.flatMap((e) => e.members.map((m) => m.key)))]

function encoder(how: How, equipment: readonly PlanEquipment[]): Encoder {
  const csv = how.form === 'csv'
  const wide = how.rows === 'wide'
  const json = jsonValue(how)
  const plain = plainValue(how)
  const text = csv ? (v: Parameters<typeof plain>[0]) => (typeof v === 'string' ? field(v) : plain(v)) : json
  const time = csv ? timeText(how.time, how.zone) : jsonTime(how.time, how.zone)
  const word = csv ? field : (s: string) => JSON.stringify(s)
  const nothing = csv ? '' : 'null'
  const choosers = equipment.map((e) => chooser({ ...how, nulls: 'null' }, e.members.length))
  const names = equipment.map((e) => word(e.name))
  const keys = equipment.map((e) => e.members.map((m) => word(m.key)))
  const asNumber = equipment.map((e) => e.members.map(numeric))
  const all = wideKeys(equipment)
  const places = equipment.map((e) => all.map((k) => e.members.findIndex((m) => m.key === k)))
  const columns = wide ? ['equipment', 'at', ...all, 'quality'] : narrow(how)
  const labels = columns.map((c) => `${JSON.stringify(c)}:`)
  const row = csv ? (cells: string[]) => cells.join(',') : (cells: string[]) => `{${cells.map((c, i) => labels[i]! + c).join(',')}}`
  const heading = csv ? columns.map(field).join(',') : ''
  return ({ parts, now, whole }) => {
    const rows: string[] = []
    let at = Number.NEGATIVE_INFINITY
    parts.forEach((part, e) => {
      const { take, choose } = choosers[e]!
      choose(part, whole || wide)
      const { cells, changed } = part
      const own = newest(cells, now)
      if (own > at) at = own
      const value = (i: number) => (take[i] === Take.value ? text(cells[i]!.value) : take[i] === Take.lastGood ? text(cells[i]!.goodValue) : nothing)
      if (wide) {
        if (how.members === 'changed' && !whole && !changed.includes(1)) return
        const marks = cells.flatMap((c, i) =>
          c.status >>> 30 === 0 || take[i] === Take.nothing ? [] : [`${equipment[e]!.members[i]!.key}=${markOf(c, take[i]!, own)}`],
        )
        rows.push(
          row([names[e]!, time(own), ...places[e]!.map((i) => (i < 0 || take[i] === Take.nothing ? nothing : value(i))), word(marks.join('; '))]),
        )
        return
      }
      for (let i = 0; i < cells.length; i++) {
        if (take[i] === Take.nothing) continue
        const cell = cells[i]!
        const v = value(i)
        const when = timeOr(cell, own)
        const quality = word(cell.status >>> 30 === 0 ? 'good' : markOf(cell, take[i]!, when))
        const held = how.apart ? (asNumber[e]![i] ? [v, nothing] : [nothing, csv || v === nothing || v.startsWith('"') ? v : `"${v}"`]) : [v]
        rows.push(row([names[e]!, keys[e]![i]!, ...held, quality, time(when)]))
      }
    })
    if (rows.length === 0) return null
    return { at, payload: csv ? `${heading}\r\n${rows.join('\r\n')}\r\n` : `[${rows.join(',')}]` }
  }
}

/** One row as names and values; from CSV all are text, and nothing is null. */
function readRow(how: How, raw: Record<string, unknown>, equipment: readonly PlanEquipment[]): Reading[] {
  const csv = how.form === 'csv'
  const one = equipment.find((e) => e.name === raw.equipment)
  if (!one) return []
  const at = readTime(raw.at, how.time)
  const cell = (v: unknown) => (csv && v === '' ? null : v)
  if (how.rows === 'narrow') {
    const m = one.members.find((x) => x.key === raw.name)
    if (!m) return []
    const value = how.apart ? (numeric(m) ? raw.number : raw.text) : raw.value
    return [readingOf(one.name, m, cell(value), raw.quality, at)]
  }
  const marks = new Map(
    String(raw.quality ?? '')
      .split('; ')
      .map((t) => [t.slice(0, t.indexOf('=')), t.slice(t.indexOf('=') + 1)] as const),
  )
  return one.members.flatMap((m) => (Object.hasOwn(raw, m.key) ? [readingOf(one.name, m, cell(raw[m.key]), marks.get(m.key), at)] : []))
}

/**
 * Rows for tables. Narrow: `equipment, name, value, quality, at`, one a value; wide: one an equipment, a column a member.
 * As a JSON array of objects, or CSV (RFC 4180) with a heading, in which nothing is no value.
 */
export const rowsShape: Shape<'rows'> = {
  kind: 'rows',
  label: 'Rows',
  standard: 'RFC 8259, RFC 4180',
  saysWhose: true,
  reserved: (s) => (s.rows === 'wide' ? ['equipment', 'at', 'quality'] : []),
  contentType: (s) => (s.form === 'csv' ? 'text/csv; header=present' : 'application/json'),
  grouping: (s) => s.per,
  summary: (s) => `${s.rows} rows as ${s.form === 'csv' ? 'CSV' : 'JSON'}${s.per === 'publication' ? ', all equipment in one message' : ''}`,
  encoder: (settings, scope) => encoder(settings, scope.equipment),
  decoder(settings, scope) {
    return (bytes): Decoded => {
      let rows: unknown
      if (settings.form === 'json') {
        const read = readJson(bytes)
        if ('problem' in read) return read
        rows = read.json
        if (!Array.isArray(rows)) return { problem: 'It is not a JSON array of rows', at: 0 }
      } else {
        let text: string
        try {
          text = utf8.decode(bytes)
        } catch {
          return { problem: 'It is not UTF-8 text', at: null }
        }
        const parsed = Papa.parse<string[]>(text, { delimiter: ',', skipEmptyLines: true })
        const [heading, ...rest] = parsed.data
        if (!heading?.includes('equipment')) return { problem: 'Its first row has no column called equipment', at: 0 }
        const odd = rest.findIndex((r) => r.length !== heading.length)
        if (odd >= 0) return { problem: `Row ${odd + 2} has ${rest[odd]!.length} cells, the heading ${heading.length}`, at: null }
        rows = rest.map((r) => Object.fromEntries(heading.map((h, i) => [h, r[i]])))
      }
      const readings = (rows as unknown[]).flatMap((r) => (isObject(r) ? readRow(settings, r, scope.equipment) : []))
      const at = readings.reduce<number | null>((a, r) => (r.time !== null && (a === null || r.time > a) ? r.time : a), null)
      return { kind: 'rows', at, readings }
    }
  },
  describe(settings, scope) {
    const { equipment } = scope
    if (settings.form === 'csv')
      return {
        language: 'text',
        content: (settings.rows === 'wide' ? ['equipment', 'at', ...wideKeys(equipment), 'quality'] : narrow(settings)).join(','),
      }
    const at = timeSchema(settings.time)
    const quality = { type: 'string' }
    const anything = { type: ['number', 'string', 'boolean', 'null'] }
    const properties =
      settings.rows === 'narrow'
        ? {
            equipment: { type: 'string' },
            name: { type: 'string' },
            ...(settings.apart ? { number: { type: ['number', 'string', 'null'] }, text: { type: ['string', 'null'] } } : { value: anything }),
            quality,
            at,
          }
        : {
            equipment: { type: 'string' },
            at,
            ...Object.fromEntries(
              wideKeys(equipment).map((k) => [k, valueSchema(equipment.flatMap((e) => e.members).find((m) => m.key === k)!, settings)]),
            ),
            quality,
          }
    return {
      language: 'schema',
      content: {
        $schema: 'https://json-schema.org/draft/2020-12/schema',
        type: 'array',
        items: { type: 'object', properties, required: Object.keys(properties), additionalProperties: false },
      },
    }
  },
}
