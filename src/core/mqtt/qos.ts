import type { Qos } from '~/contract/addresses/mqtt'
import type { Assurance } from '../delivery/envelope'

/** The quality of service (MQTT 5 4.3) with which a message is given its assurance. */
export const qosOf: Readonly<Record<Assurance, Qos>> = { sent: 0, acknowledged: 1, once: 2 }
