import type { SourceKind } from '~/contract/source'
import type { RegisterNotation } from '~/contract/sources/modbus'
import { parsePointer } from './json-leaf'
import { formatModbusAddress, parseModbusAddress } from './modbus-address'
import { parseTopicAddress } from './mqtt-address'
import { parseSignal } from './signal'

type Checked = { address: string } | { problem: string }

const checks: Record<SourceKind, (text: string) => Checked> = {
  // OPC 10000-6 5.3.1.10: an optional namespace, then a letter for the kind of identifier.
  opcua: (text) =>
    /^(ns=\d{1,5};)?([sb]=.+|i=\d{1,10}|g=[0-9a-fA-F-]{36})$/.test(text) ? { address: text } : { problem: 'A node id is like ns=2;s=kiln.oxygen' },
  modbus: (text) => {
    const parsed = parseModbusAddress(text)
    return 'problem' in parsed ? parsed : { address: formatModbusAddress(parsed) }
  },
  mqtt: (text) => {
    const parsed = parseTopicAddress(text)
    return 'problem' in parsed ? parsed : { address: text.trim() }
  },
  sql: pointer,
  http: pointer,
  simulated: (text) => {
    const parsed = parseSignal(text)
    return 'problem' in parsed ? parsed : { address: text.trim() }
  },
}

function pointer(text: string): Checked {
  return parsePointer(text.trim())
    ? { address: text.trim() }
    : { problem: 'A place in JSON is like /flow or /meters/0/flow, with ~1 for a slash in a name' }
}

/** Brings a tag's address into the form in which it is stored, or says what is wrong with it. */
export function checkAddress(kind: SourceKind, text: string): Checked {
  return checks[kind](text.trim())
}

/** An address as its source's settings want it shown. */
export function showAddress(source: { kind: SourceKind; settings: object } | undefined, address: string): string {
  if (source?.kind !== 'modbus') return address
  const parsed = parseModbusAddress(address)
  return 'problem' in parsed ? address : formatModbusAddress(parsed, (source.settings as { notation?: RegisterNotation }).notation)
}
