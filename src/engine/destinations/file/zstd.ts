import { type Clock, sleep } from '../../clock/clock'
import { realClock } from '../../clock/real-clock'
import { pack, unpack } from '../../publications/compress'

/** Octets of one frame: so much is packed at once, and the rest of the engine goes on in between. */
const FRAME = 256 << 10
const MAGIC = 0xfd2fb528

/** A text as Zstandard (RFC 8878), frame by frame: together they are one file to every reader. */
export async function zstd(plain: Uint8Array, clock: Clock = realClock): Promise<Uint8Array> {
  const frames: Uint8Array[] = []
  for (let at = 0; at < plain.length || at === 0; at += FRAME) {
    frames.push(pack('zstd', plain.subarray(at, at + FRAME)))
    await sleep(clock, 0)
  }
  return Buffer.concat(frames)
}

export async function unzstd(packed: Uint8Array, most: number, clock: Clock = realClock): Promise<Uint8Array> {
  const parts: Uint8Array[] = []
  let octets = 0
  for (let at = 0; at < packed.length; ) {
    const end = at + frameOctets(packed.subarray(at))
    const part = unpack('zstd', packed.subarray(at, end), most - octets)
    octets += part.length
    parts.push(part)
    at = end
    await sleep(clock, 0)
  }
  return Buffer.concat(parts)
}

/** How long the first frame is (RFC 8878 3.1.1): its header, then blocks up to the last, then a checksum where it says so. */
export function frameOctets(packed: Uint8Array): number {
  const view = new DataView(packed.buffer, packed.byteOffset, packed.byteLength)
  if (packed.length < 6 || view.getUint32(0, true) !== MAGIC) throw new Error('no Zstandard frame')
  const head = packed[4]!
  const single = (head & 0x20) !== 0
  const sizeOctets = [single ? 1 : 0, 2, 4, 8][head >> 6]!
  let at = 5 + (single ? 0 : 1) + [0, 1, 2, 4][head & 3]! + sizeOctets
  for (;;) {
    if (at + 3 > packed.length) throw new Error('a Zstandard frame cut short')
    const block = packed[at]! | (packed[at + 1]! << 8) | (packed[at + 2]! << 16)
    // A block of one octet again and again holds just that one.
    at += 3 + (((block >> 1) & 3) === 1 ? 1 : block >> 3)
    if ((block & 1) === 1) break
  }
  at += (head & 4) !== 0 ? 4 : 0
  if (at > packed.length) throw new Error('a Zstandard frame cut short')
  return at
}
