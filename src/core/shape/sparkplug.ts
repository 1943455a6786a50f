import type { Settings } from '~/contract/shape'
import { type Metric, readSparkplug } from '../source/sparkplug'
import { qualityOf } from '../value/quality'
import { newest, timeOr } from './choose'
import { rememberedText, Writer } from './octets'
import { fieldsOf } from './pubsub'
import type { Decoded, Encoded, Encoder, Input, Part, Reading, Scope, Shape } from './shape'
import { aliasOf, DATATYPE, deviceId, heads, metric, metricName, none, nowOctets, numberForm, timeOctets } from './sparkplug-metric'

type How = Settings<'sparkplug-b'>

function encoderOf(how: How, scope: Scope): Encoder {
  const one = scope.equipment[0]!
  const aliased = how.aliases && !scope.ambiguousAliases
  const own = heads(one, !aliased, aliased, !aliased)
  const forms = own.map((head, i) => (one.members[i]!.dataType === 'number' ? numberForm(head) : none))
  const types = one.members.map((m) => m.dataType)
  const texts = one.members.map(() => rememberedText())
  const onlyChanged = how.members === 'changed'
  const lastGood = how.bad === 'last-good'
  const w = new Writer()
  const encode = (part: Part, now: number, chosen: readonly number[]): Encoded => {
    const at = newest(part.cells, now)
    w.u8(0x08)
    w.raw(nowOctets(now))
    for (const i of chosen) {
      const cell = part.cells[i]!
      const form = forms[i]!
      if (form !== none && cell.status >>> 30 === 0 && typeof cell.value === 'number') {
        const when = timeOctets(timeOr(cell, at))
        if (when.length === 6) {
          w.form(form, when, cell.value)
          continue
        }
      }
      metric(w, own[i]!, types[i]!, cell, at, lastGood, texts[i]!)
    }
    return { at, payload: w.take() }
  }
  return ({ parts, now, whole }: Input) => {
    const chosen = fieldsOf(parts[0]!, whole, onlyChanged)
    return chosen.length === 0 ? null : encode(parts[0]!, now, chosen)
  }
}

/** Pairs of names that are the same but for their capitals. */
function alikeNames(names: readonly string[]): string[] {
  const seen = new Map<string, string>()
  const out: string[] = []
  for (const name of names) {
    const before = seen.get(name.toLowerCase())
    if (before !== undefined && before !== name) out.push(`${before} and ${name}`)
    else seen.set(name.toLowerCase(), name)
  }
  return out
}

/**
 * Sparkplug B 3.0: device data (DDATA) with a metric a member; births, deaths and the number within a session are made where
 * the connection is. A bad value goes as null, or as the last good one under its own time, with its quality as a property.
 */
export const sparkplugB: Shape<'sparkplug-b'> = {
  kind: 'sparkplug-b',
  wholes: 'signed-64',
  label: 'Sparkplug B',
  standard: 'Sparkplug 3.0',
  reserved: () => [],
  contentType: () => 'application/x-protobuf',
  grouping: () => 'equipment',
  // Births and data go at QoS 0 and are not retained (Sparkplug 3.0 6.4.19 to 6.4.22).
  fixed: { assurance: 'sent', kept: false },
  summary: (s) => `Sparkplug B, edge node ${s.group}/${s.node}, a device an equipment${s.aliases ? ', aliases' : ''}`,
  problems(_s, equipment) {
    const names = new Map<string, number>()
    for (const one of equipment) names.set(deviceId(one), (names.get(deviceId(one)) ?? 0) + 1)
    return [...names].filter(([, n]) => n > 1).map(([name, n]) => `${n} equipment would be the device ${name}: give them aliases`)
  },
  // Names that differ in their capitals only are not to be used (6.1, case sensitivity).
  doubts(_s, equipment) {
    const devices = alikeNames(equipment.map(deviceId))
    const metrics = equipment.flatMap((one) => alikeNames(one.members.map(metricName)).map((pair) => `${one.name}: ${pair}`))
    return [...devices, ...metrics].slice(0, 3).map((pair) => `${pair} differ in capitals only, which some receivers take for the same`)
  },
  encoder: encoderOf,
  decoder(settings, scope) {
    const one = scope.equipment[0]!
    const byAlias = new Map(one.members.map((m) => [aliasOf(one, m), m]))
    const byName = new Map(one.members.map((m) => [metricName(m), m]))
    const memberOf = (metric: Metric) =>
      (metric.name === null ? undefined : byName.get(metric.name)) ??
      (metric.alias === null || !settings.aliases ? undefined : byAlias.get(metric.alias))
    return (bytes): Decoded => {
      try {
        const read = readSparkplug(bytes, (metric) => {
          const m = memberOf(metric)
          return m ? DATATYPE[m.dataType] : null
        })
        const readings = read.metrics.flatMap((metric): Reading[] => {
          const m = memberOf(metric)
          if (!m) return []
          return [
            {
              equipment: null,
              member: m.key,
              value: metric.value ?? null,
              quality: qualityOf(metric.status),
              reason: metric.reason ?? '',
              time: metric.time,
            },
          ]
        })
        return { kind: 'data', at: read.time, readings }
      } catch (e) {
        return { problem: e instanceof Error ? `It is no Sparkplug payload: ${e.message}` : 'It is no Sparkplug payload', at: null }
      }
    }
  },
  describe(settings, scope, all = [scope]) {
    return {
      language: 'text',
      content: {
        standard: 'Sparkplug 3.0, payload B (Protocol Buffers)',
        node: `${settings.group}/${settings.node}`,
        devices: all
          .flatMap((s) => s.equipment)
          .map((one) => ({
            device: deviceId(one),
            metrics: one.members.map((m) => ({
              name: metricName(m),
              ...(settings.aliases && { alias: aliasOf(one, m) }),
              datatype: DATATYPE[m.dataType],
              ...(m.unit && { unit: m.unit }),
            })),
          })),
      },
    }
  },
}
