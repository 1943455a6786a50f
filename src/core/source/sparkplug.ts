import protobuf from 'protobufjs/minimal.js'
import type { DataType } from '~/contract/tag'
import type { Scalar } from '../value/deadband'
import { Status } from '../value/quality'
import { whole } from '../value/whole'

/** One metric of a Sparkplug B payload (Sparkplug 3.0 6.4.7). */
export interface Metric {
  name: string | null
  alias: number | null
  /** Epoch ms. */
  time: number | null
  datatype: number | null
  value: Scalar | undefined
  status: number
  unit?: string
  /** Why it is not good, where the sender tells it. */
  reason?: string
}

export interface SparkplugPayload {
  time: number | null
  seq: number | null
  metrics: Metric[]
}

/** Datatypes (Sparkplug 3.0 6.4.16) as tag data types; what a tag cannot hold has none. */
export function sparkplugType(datatype: number | null): DataType | null {
  if (datatype === null) return null
  if (datatype >= 1 && datatype <= 8) return 'integer'
  if (datatype === 9 || datatype === 10) return 'number'
  if (datatype === 11) return 'boolean'
  if (datatype === 12 || datatype === 14 || datatype === 15) return 'text'
  return datatype === 13 ? 'time' : null
}

const number = (n: unknown) => Number(n)
const bits = [0, 8, 16, 32, 64, 8, 16, 32, 64]

/** The two's complement that signed integers travel as. */
function signed(value: bigint, datatype: number): number | bigint {
  const width = bits[datatype] ?? 64
  return whole(datatype <= 4 ? BigInt.asIntN(width, value) : BigInt.asUintN(width, value))
}

const big = (n: unknown) => BigInt(String(n))
/** Milliseconds since 1970; before it in two's complement. */
const signedTime = (n: unknown) => Number(BigInt.asIntN(64, big(n)))

/**
 * Reads a payload; throws when it is none. Time, names and values; data sets, templates and files are left out. Data tells no
 * datatypes, as its birth did: `born` says what that was.
 */
export function readSparkplug(bytes: Uint8Array, born: (m: Metric) => number | null = () => null): SparkplugPayload {
  const r = protobuf.Reader.create(bytes)
  const out: SparkplugPayload = { time: null, seq: null, metrics: [] }
  while (r.pos < r.len) {
    const tag = r.uint32()
    switch (tag) {
      case 8:
        out.time = signedTime(r.uint64())
        break
      case 18: {
        const length = r.uint32()
        if (r.pos + length > r.len) throw new Error('a metric ends beyond the payload')
        out.metrics.push(readMetric(r, r.pos + length, born))
        break
      }
      case 24:
        out.seq = number(r.uint64())
        break
      default:
        if (tag >>> 3 > 5 || tag >>> 3 === 0) throw new Error(`field ${tag >>> 3} is none of a Sparkplug payload`)
        r.skipType(tag & 7)
    }
  }
  return out
}

function readMetric(r: protobuf.Reader, end: number, born: (m: Metric) => number | null): Metric {
  const m: Metric = { name: null, alias: null, time: null, datatype: null, value: undefined, status: Status.good }
  let integer: bigint | null = null
  let isNull = false
  while (r.pos < end) {
    const tag = r.uint32()
    switch (tag >>> 3) {
      case 1:
        m.name = r.string()
        break
      case 2:
        m.alias = number(r.uint64())
        break
      case 3:
        m.time = signedTime(r.uint64())
        break
      case 4:
        m.datatype = r.uint32()
        break
      case 7:
        isNull = r.bool()
        break
      case 9:
        readProperties(r, r.uint32() + r.pos, m)
        break
      case 10:
        integer = BigInt(r.uint32())
        break
      case 11:
        integer = big(r.uint64())
        break
      case 12:
        m.value = Number(r.float().toPrecision(7))
        break
      case 13:
        m.value = r.double()
        break
      case 14:
        m.value = r.bool()
        break
      case 15:
        m.value = r.string()
        break
      default:
        r.skipType(tag & 7)
    }
  }
  if (r.pos !== end) throw new Error('a metric does not end where it says')
  if (integer !== null) {
    const datatype = m.datatype ?? born(m) ?? 8
    if (datatype === 13) {
      const at = BigInt.asIntN(64, integer)
      if (at > 8_640_000_000_000_000n || at < -8_640_000_000_000_000n) throw new Error('a time is beyond all calendars')
      m.value = new Date(Number(at)).toISOString()
    } else m.value = signed(integer, datatype)
  }
  if (isNull) m.value = null
  return m
}

/** Properties (6.4.12): only quality (6.4.13: 0 bad, 192 good, 500 stale) and the unit are of use here. */
function readProperties(r: protobuf.Reader, end: number, m: Metric): void {
  const keys: string[] = []
  const values: Scalar[] = []
  while (r.pos < end) {
    const tag = r.uint32()
    if (tag >>> 3 === 1) keys.push(r.string())
    else if (tag >>> 3 === 2) {
      const stop = r.uint32() + r.pos
      let value: Scalar = null
      while (r.pos < stop) {
        const inner = r.uint32()
        if (inner >>> 3 === 3) value = r.uint32()
        else if (inner >>> 3 === 4) value = number(r.uint64())
        else if (inner >>> 3 === 8) value = r.string()
        else r.skipType(inner & 7)
      }
      values.push(value)
    } else r.skipType(tag & 7)
  }
  keys.forEach((key, i) => {
    const value = values[i]
    if (key === 'Quality') m.status = value === 192 ? Status.good : value === 500 ? Status.stale : 0x80000000
    else if (key === 'reason' && typeof value === 'string') m.reason = value
    else if (/^eng(ineering)?_?unit$/i.test(key) && typeof value === 'string') m.unit = value
  })
}

/** The command that asks an edge node for its births again (Sparkplug 3.0 6.4.24). */
export function rebirthCommand(now: number): Uint8Array {
  const metric = protobuf.Writer.create()
    .uint32(10)
    .string('Node Control/Rebirth')
    .uint32(24)
    .uint64(now)
    .uint32(32)
    .uint32(11)
    .uint32(112)
    .bool(true)
    .finish()
  return protobuf.Writer.create().uint32(8).uint64(now).uint32(18).bytes(metric).finish()
}

/** Apart: message type, and the address under which tags have the node or device; null when the topic is none of Sparkplug's. */
export function sparkplugTopic(topic: string): { type: string; node: string; device: string | null; address: string } | null {
  const [namespace, group, type, node, device, ...rest] = topic.split('/')
  if (namespace !== 'spBv1.0' || !group || !type || !node || rest.length > 0) return null
  const at = `spBv1.0/${group}/${node}`
  return { type, node: at, device: device ?? null, address: device ? `${at}/${device}` : at }
}
