import type { DestinationKind } from '~/contract/destination'
import { datagramDriver } from './datagram/driver'
import type { DestinationDriver } from './driver'
import { fileDriver } from './file/driver'
import { httpDriver } from './http/driver'
import { hubDriver } from './hub/driver'
import { mqttDriver } from './mqtt/driver'
import { streamDriver } from './stream/driver'
import { tableDriver } from './table/driver'

const drivers: { [K in DestinationKind]: DestinationDriver<K> } = {
  mqtt: mqttDriver,
  stream: streamDriver,
  http: httpDriver,
  table: tableDriver,
  file: fileDriver,
  datagram: datagramDriver,
  hub: hubDriver,
}

/** The driver of a kind; targets that it is given must be of that kind. */
export const driverOf = (kind: DestinationKind): DestinationDriver => drivers[kind]
