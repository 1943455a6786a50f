import { z } from 'zod'
import { DatagramAddress } from './addresses/datagram'
import { FileAddress } from './addresses/file'
import { HttpAddress } from './addresses/http'
import { HubAddress } from './addresses/hub'
import { MqttAddress } from './addresses/mqtt'
import { StreamAddress } from './addresses/stream'
import { TableAddress } from './addresses/table'

/** Where messages go, in the words of the kind of their destination. */
export const Address = z.discriminatedUnion('kind', [MqttAddress, StreamAddress, HttpAddress, TableAddress, FileAddress, DatagramAddress, HubAddress])
export type Address = z.infer<typeof Address>
export type AddressKindName = Address['kind']
export type AddressOfKind<K extends AddressKindName> = Extract<Address, { kind: K }>
