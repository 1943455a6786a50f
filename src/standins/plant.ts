import type { User } from './broker/access'

/** Log-ins of the works' devices and broker. They guard invented values on loopback and are no secret. */
export const kilnLogin = { user: 'embrik', password: 'kiln-reader-4' }
export const compressorLogin = { user: 'monitor', password: 'air-reader-6' }
export const ordersLogin = { user: 'works_reader', password: 'order-reader-7', database: 'varnmoor_works' }
/** Who may what in the records of the works. */
export const recordsLogins = {
  database: 'varnmoor_records',
  writer: { user: 'records_writer', password: 'clay-keeper-5' },
  reader: { user: 'records_reader', password: 'clay-reader-10' },
}
export const deviceLogins = { probes: 'clay-probe-8', packing: 'clay-packer-9' }

export const streamUsers = { embrik: 'clay-stream-1', witness: 'clay-witness-6', reader: 'clay-reader-8' }
/** Topics of the works stream, with how many partitions each has. */
export const streamTopics = { 'varnmoor.kiln': 6, 'varnmoor.dryers': 3, 'varnmoor.works': 1 }
/** Who may what there, by what names of topics begin with. */
export const streamPermissions = {
  embrik: { write: ['varnmoor.'], read: [] },
  witness: { write: [], read: ['varnmoor.'] },
  reader: { write: [], read: ['varnmoor.'] },
}

/** Who may what at the works receiver. */
export const receiverUsers = {
  embrik: { secret: 'clay-poster-4', reads: false },
  witness: { secret: 'clay-witness-7', writes: false },
  reader: { secret: 'clay-reader-9', writes: false },
}

/** The object store of the works, and who may what in its bucket, by what keys of objects begin with. */
export const objectKeys = {
  embrik: { secret: 'clay-lake-writer-11', write: ['lake/'], read: ['lake/'] },
  witness: { secret: 'clay-lake-reader-12', write: [], read: ['lake/'] },
  reader: { secret: 'clay-lake-reader-13', write: [], read: [''] },
}
/** Log-ins of the schema registry. */
export const schemaUsers = { embrik: 'clay-schemas-14', reader: 'clay-schemas-reader-15' }
export const objectBucket = 'varnmoor'
/** To which the relay hands on what comes to it. */
export const relayGroup = '239.192.77.1'

export const brokerUsers: User[] = [
  {
    name: 'embrik',
    password: 'clay-sender-1',
    publish: ['varnmoor/#', 'spBv1.0/varnmoor/#'],
    subscribe: ['spBv1.0/varnmoor/NCMD/#', 'spBv1.0/varnmoor/DCMD/#', 'spBv1.0/STATE/#'],
  },
  { name: 'witness', password: 'clay-witness-2', publish: [], subscribe: ['varnmoor/#', 'spBv1.0/varnmoor/#'] },
  // A receiver: it may ask edge nodes for their births, and say that it is there.
  {
    name: 'reader',
    password: 'clay-reader-3',
    publish: ['spBv1.0/varnmoor/NCMD/#', 'spBv1.0/varnmoor/DCMD/#', 'spBv1.0/STATE/#'],
    subscribe: ['varnmoor/#', 'spBv1.0/varnmoor/#'],
  },
  { name: 'collector', password: 'clay-collector-5', publish: ['spBv1.0/+/NCMD/#'], subscribe: ['probes/#', 'cells/#', 'spBv1.0/#'] },
  { name: 'probes', password: deviceLogins.probes, publish: ['probes/#'], subscribe: [] },
  { name: 'packing', password: deviceLogins.packing, publish: ['cells/#', 'spBv1.0/packing/#'], subscribe: ['spBv1.0/packing/NCMD/#'] },
]
