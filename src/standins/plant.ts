import type { User } from './broker/access'

/** Log-ins of the works' devices and broker. They guard invented values on loopback and are no secret. */
export const kilnLogin = { user: 'embrik', password: 'kiln-reader-4' }

export const brokerUsers: User[] = [
  { name: 'embrik', password: 'clay-sender-1', publish: ['varnmoor/#'], subscribe: [] },
  { name: 'witness', password: 'clay-witness-2', publish: [], subscribe: ['varnmoor/#'] },
  { name: 'reader', password: 'clay-reader-3', publish: [], subscribe: ['varnmoor/#'] },
]
