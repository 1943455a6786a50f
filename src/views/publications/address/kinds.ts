import type { ReactNode } from 'react'
import type { AddressKindName } from '~/contract/address'
import { DatagramFields } from './datagram'
import type { AddressFieldsProps } from './fields-props'
import { FileFields } from './file'
import { HttpFields } from './http'
import { HubFields } from './hub'
import { MqttFields } from './mqtt'
import { StreamFields } from './stream'
import { TableFields } from './table'

const kinds: { [K in AddressKindName]: (props: AddressFieldsProps<K>) => ReactNode } = {
  mqtt: MqttFields,
  stream: StreamFields,
  http: HttpFields,
  table: TableFields,
  file: FileFields,
  datagram: DatagramFields,
  hub: HubFields,
}

/** The fields of a kind of address; the address that they are given must be of that kind. */
export const fieldsOf = (kind: AddressKindName) => kinds[kind] as (props: AddressFieldsProps<AddressKindName>) => ReactNode
