import type { User } from './broker/access'

/** Log-ins of the works' devices and broker. They guard invented values on loopback and are no secret. */
export const kilnLogin = { user: 'embrik', password: 'kiln-reader-4' }
export const compressorLogin = { user: 'monitor', password: 'air-reader-6' }
export const ordersLogin = { user: 'works_reader', password: 'order-reader-7', database: 'varnmoor_works' }
export const deviceLogins = { probes: 'clay-probe-8', packing: 'clay-packer-9' }

export const brokerUsers: User[] = [
  { name: 'embrik', password: 'clay-sender-1', publish: ['varnmoor/#'], subscribe: [] },
  { name: 'witness', password: 'clay-witness-2', publish: [], subscribe: ['varnmoor/#'] },
  { name: 'reader', password: 'clay-reader-3', publish: [], subscribe: ['varnmoor/#'] },
  { name: 'collector', password: 'clay-collector-5', publish: ['spBv1.0/+/NCMD/#'], subscribe: ['probes/#', 'cells/#', 'spBv1.0/#'] },
  { name: 'probes', password: deviceLogins.probes, publish: ['probes/#'], subscribe: [] },
  { name: 'packing', password: deviceLogins.packing, publish: ['cells/#', 'spBv1.0/packing/#'], subscribe: ['spBv1.0/packing/NCMD/#'] },
]
