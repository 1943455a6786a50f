/** What a status code means: OPC 10000-4 7.39. The top two bits tell good (00), uncertain (01) and bad (10). */
export type Quality = 'good' | 'uncertain' | 'bad'

/** Statuses Embrik itself sets. */
export const Status = {
  good: 0x00000000,
  /** The link to the device is gone; the value is the last one known. */
  lastUsable: 0x408f0000,
  /** What spoke by itself has fallen silent; the value is its last one. */
  stale: 0x40900000,
  /** A computed signal stands in for the device. */
  substitute: 0x40910000,
  /** No value has come yet; the one that was set for this stands. */
  initial: 0x40920000,
  engineeringUnitsExceeded: 0x40940000,
  subNormal: 0x40950000,
  resourceUnavailable: 0x80040000,
  communication: 0x80050000,
  decoding: 0x80070000,
  timeout: 0x800a0000,
  noCommunication: 0x80310000,
  waitingForInitialData: 0x80320000,
  nodeInvalid: 0x80330000,
  nodeUnknown: 0x80340000,
  outOfRange: 0x803c0000,
  notSupported: 0x803d0000,
  typeMismatch: 0x80740000,
  deviceFailure: 0x808b0000,
  noData: 0x809b0000,
  /** An expression had no answer. */
  noAnswer: 0x80d60000,
} as const

const reasons = new Map<number, string>([
  [0x0000, 'good'],
  [0x0096, 'local override'],
  [0x00a2, 'communication event'],
  [0x408f, 'last usable value'],
  [0x4090, 'stale'],
  [0x4091, 'simulated'],
  [0x4092, 'initial value'],
  [0x4093, 'sensor not accurate'],
  [0x4094, 'engineering units exceeded'],
  [0x4095, 'sub-normal'],
  [0x8000, 'bad'],
  [0x4000, 'uncertain'],
  [0x8004, 'device busy'],
  [0x8005, 'communication error'],
  [0x8007, 'not decodable'],
  [0x800a, 'timed out'],
  [0x8031, 'no communication'],
  [0x8032, 'waiting for the first value'],
  [0x8033, 'address invalid'],
  [0x8034, 'address unknown'],
  [0x803a, 'not readable'],
  [0x803b, 'not writable'],
  [0x803c, 'out of range'],
  [0x803d, 'not supported'],
  [0x8074, 'type mismatch'],
  [0x809b, 'no data'],
  [0x80d6, 'not computable'],
  [0x8089, 'configuration error'],
  [0x808a, 'not connected'],
  [0x808b, 'device failure'],
  [0x808c, 'sensor fault'],
  [0x808d, 'out of service'],
  [0x801f, 'access denied'],
])

/** `qualityOf(0x808c0000)` is `'bad'`. */
export function qualityOf(status: number): Quality {
  const severity = status >>> 30
  return severity === 0 ? 'good' : severity === 1 ? 'uncertain' : 'bad'
}

/** The reason in words; an unknown code reads as its number: `'status 0x80990000'`. */
export function reasonOf(status: number): string {
  return reasons.get(status >>> 16) ?? `status 0x${(status >>> 0).toString(16).padStart(8, '0')}`
}

/** `'bad: sensor fault'`; plain `'good'` when there is nothing to add. */
export function qualityText(status: number): string {
  const quality = qualityOf(status)
  const reason = reasonOf(status)
  return quality === reason ? quality : `${quality}: ${reason}`
}
