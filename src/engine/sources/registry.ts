import type { SourceKind } from '~/contract/source'
import type { SourceDriver } from './driver'
import { httpDriver } from './http/driver'
import { modbusDriver } from './modbus/driver'
import { mqttSourceDriver } from './mqtt/driver'
import { opcuaDriver } from './opcua/driver'
import { simulatedDriver } from './simulated/driver'
import { sqlDriver } from './sql/driver'

const drivers: { [K in SourceKind]: SourceDriver<K> } = {
  opcua: opcuaDriver,
  modbus: modbusDriver,
  mqtt: mqttSourceDriver,
  sql: sqlDriver,
  http: httpDriver,
  simulated: simulatedDriver,
}

/** The driver of a kind, for a target of that kind. */
export function sourceDriver(kind: SourceKind): SourceDriver<SourceKind> {
  return drivers[kind] as unknown as SourceDriver<SourceKind>
}
