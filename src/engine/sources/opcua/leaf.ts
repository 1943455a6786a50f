import { type DataValue, ExtensionObject } from 'node-opcua-client'
import { atPointer, parsePointer } from '~/core/source/json-leaf'
import { exactJson } from '~/core/value/exact-json'

/** Apart: the node id, and the place inside its value when the address names one (`ns=2;s=kiln.profile#/3`). */
export function splitAddress(address: string): { nodeId: string; pointer: string[] | null } {
  const at = address.lastIndexOf('#/')
  if (at < 0) return { nodeId: address, pointer: null }
  return { nodeId: address.slice(0, at), pointer: parsePointer(address.slice(at + 1)) }
}

const isPair = (v: unknown): v is [number, number] => Array.isArray(v) && v.length === 2 && v.every((n) => typeof n === 'number')

/** An OPC UA value as plain data: arrays, structures by their fields, 64-bit integers (which come as two halves) as bigint. */
export function plain(value: unknown, dataType?: number): unknown {
  // Built-in types 8 and 9 (OPC 10000-6 5.1.2).
  if ((dataType === 8 || dataType === 9) && isPair(value)) {
    const raw = (BigInt(value[0] >>> 0) << 32n) | BigInt(value[1] >>> 0)
    return dataType === 8 ? BigInt.asIntN(64, raw) : raw
  }
  if (value instanceof ExtensionObject) {
    const fields = Object.entries(value).filter(([k]) => k !== 'schema' && !k.startsWith('_'))
    return Object.fromEntries(fields.map(([k, v]) => [k, plain(v)]))
  }
  if (ArrayBuffer.isView(value) && !(value instanceof DataView)) return Array.from(value as unknown as ArrayLike<unknown>)
  if (Array.isArray(value)) return value.map((v) => plain(v, dataType))
  if (value instanceof Date || typeof value !== 'object' || value === null) return value
  const text = (value as { text?: unknown }).text
  if (typeof text === 'string' || 'locale' in value) return text ?? null
  return typeof (value as { toJSON?: unknown }).toJSON === 'function' ? (value as { toJSON(): unknown }).toJSON() : value
}

/** The value that a tag of this address has; undefined when there is nothing at its place. */
export function leafOf(v: DataValue, pointer: readonly string[] | null): unknown {
  const value = plain(v.value?.value, v.value?.dataType)
  const found = pointer === null ? value : atPointer(value, pointer)
  // A tag holds one value: a whole array or structure is shown as JSON.
  return typeof found === 'object' && found !== null && !(found instanceof Date) ? exactJson(found) : found
}
