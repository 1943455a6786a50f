import type { DestinationDraft } from '~/contract/destination'
import type { DestinationDriver } from './driver'
import { mqttDriver } from './mqtt/driver'

export const destinationDrivers: Record<DestinationDraft['kind'], DestinationDriver> = { mqtt: mqttDriver }
