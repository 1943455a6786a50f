import { Status } from '../value/quality'

/** Exception codes (MODBUS Application Protocol V1.1b3 7): words, what to do, and the quality that a tag gets. */
export const modbusExceptions: Record<number, { words: string; hint: string; status: number }> = {
  1: { words: 'illegal function', hint: 'The device does not know this function code: another area may hold the value', status: Status.notSupported },
  2: {
    words: 'illegal data address',
    hint: 'There is no such register: check offset, area, and whether the list counts from 0 or 1',
    status: Status.nodeUnknown,
  },
  3: { words: 'illegal data value', hint: 'The device refuses the count or the value: ask for fewer registers at once', status: Status.outOfRange },
  4: { words: 'device failure', hint: 'The device failed while answering: look at the device', status: Status.deviceFailure },
  5: { words: 'acknowledge: it takes long', hint: 'Ask again later', status: Status.resourceUnavailable },
  6: { words: 'device busy', hint: 'Ask less often', status: Status.resourceUnavailable },
  8: { words: 'memory parity error', hint: 'The device finds its memory damaged', status: Status.deviceFailure },
  10: {
    words: 'gateway path unavailable',
    hint: 'The gateway has no way to this unit id: check it and the serial line',
    status: Status.noCommunication,
  },
  11: {
    words: 'gateway target failed to respond',
    hint: 'The unit behind the gateway is silent: check its unit id, power and cable',
    status: Status.timeout,
  },
}
