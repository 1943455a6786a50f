import { Status } from '../value/quality'

/** What to do about tags in a state that is no good one. */
const hints: Record<number, string> = {
  [Status.stale >>> 16]: 'What spoke by itself has fallen silent: look whether the device has power and reaches its broker',
  [Status.engineeringUnitsExceeded >>> 16]: 'Look whether scaling and data type fit the device, or whether the range is too narrow',
  [Status.outOfRange >>> 16]: 'Look whether scaling and data type fit the device, or whether the range is too narrow',
  [Status.nodeUnknown >>> 16]: 'The device no longer has these addresses: browse it again',
  [Status.decoding >>> 16]: 'What came does not fit the data type: look at the raw octets of one of them',
  [Status.typeMismatch >>> 16]: 'What came does not fit the data type: look at the raw octets of one of them',
  [Status.nodeInvalid >>> 16]: 'Correct the address of the tag',
  [Status.waitingForInitialData >>> 16]: 'The device has told no value yet: look at its address, and whether the device tells it at all',
}

/** By its OPC UA status code; empty: nothing is known to do. */
export const tagHint = (status: number): string => hints[status >>> 16] ?? ''
