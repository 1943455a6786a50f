import { randomUUID } from 'node:crypto'

const NAME = 'embrik-check-'
/** Version 1 with a publisher id; in the flags that follow: it is a text (OPC 10000-14 7.2.4.4.2). */
const FLAGS = 0x01 | 0x10 | 0x80
const TEXT_ID = 0x04

/** A network message of UADP that holds nothing, from a publisher whom nobody listens to. */
export function probe(): Buffer {
  const name = Buffer.from(NAME + randomUUID())
  const head = Buffer.alloc(6)
  head[0] = FLAGS
  head[1] = TEXT_ID
  head.writeInt32LE(name.length, 2)
  return Buffer.concat([head, name])
}

/** Whether a datagram is a probe, of whomever. */
export const isProbe = (octets: Buffer): boolean =>
  octets.length === 6 + NAME.length + 36 && octets[0] === FLAGS && octets[1] === TEXT_ID && octets.toString('latin1', 6, 6 + NAME.length) === NAME
