import protobuf from 'protobufjs/minimal.js'

export interface OutMetric {
  name?: string
  alias?: number
  datatype?: number
  value: number | boolean | string
  unit?: string
}

/** Writes a payload (Sparkplug 3.0 6.4). */
export function writeSparkplug(now: number, seq: number, metrics: readonly OutMetric[]): Uint8Array {
  const w = protobuf.Writer.create().uint32(8).uint64(now)
  for (const m of metrics) w.uint32(18).bytes(metric(m, now))
  return w.uint32(24).uint64(seq).finish()
}

function metric(m: OutMetric, now: number): Uint8Array {
  const w = protobuf.Writer.create()
  if (m.name !== undefined) w.uint32(10).string(m.name)
  if (m.alias !== undefined) w.uint32(16).uint64(m.alias)
  w.uint32(24).uint64(now)
  if (m.datatype !== undefined) w.uint32(32).uint32(m.datatype)
  if (m.unit !== undefined) {
    const value = protobuf.Writer.create().uint32(8).uint32(12).uint32(66).string(m.unit).finish()
    w.uint32(74).bytes(protobuf.Writer.create().uint32(10).string('engUnit').uint32(18).bytes(value).finish())
  }
  const { value } = m
  if (typeof value === 'boolean') w.uint32(112).bool(value)
  else if (typeof value === 'string') w.uint32(122).string(value)
  else if (m.datatype === 9) w.uint32(101).float(value)
  else if (m.datatype === 10) w.uint32(105).double(value)
  else if (m.datatype === 4 || m.datatype === 8) w.uint32(88).uint64(value)
  else w.uint32(80).uint32(value >>> 0)
  return w.finish()
}
