/** When a message came past each hop after it was stored, epoch ms; null: it did not, or nobody knows. */
export interface Hops {
  /** Handed to the wire for the first time. */
  sentAt: number | null
  /** The last answer of the destination. */
  answeredAt: number | null
  /** The witness saw the first copy of it. */
  seenAt: number | null
  /** How often it was handed to the wire: 255 stands for more. */
  sendings: number
}

const COLUMNS = 4
const SENT = 0
const ANSWERED = 1
const SEEN = 2
const SENDINGS = 3
const MOST = 0xffff_ffff
const MOST_SENDINGS = 255

/** When the messages of one segment came past each hop: milliseconds after it was stored and one more, so that 0 says nothing. */
export class HopTimes {
  private readonly cells: Uint32Array

  constructor(readonly count: number) {
    this.cells = new Uint32Array(count * COLUMNS)
  }

  private note(index: number, column: number, ms: number, again: boolean): void {
    const at = index * COLUMNS + column
    if (this.cells[at] === 0 || again) this.cells[at] = Math.min(MOST, Math.max(0, Math.round(ms)) + 1)
  }

  /** It was handed to the wire, `ms` after its segment was stored. */
  sent(index: number, ms: number): void {
    this.note(index, SENT, ms, false)
    const at = index * COLUMNS + SENDINGS
    if (this.cells[at]! < MOST_SENDINGS) this.cells[at]!++
  }

  answered(index: number, ms: number): void {
    this.note(index, ANSWERED, ms, true)
  }

  seen(index: number, ms: number): void {
    this.note(index, SEEN, ms, false)
  }

  /** Those of one message, of a segment that was stored then (epoch ms). */
  at(index: number, storedAt: number): Hops {
    const cell = (column: number) => this.cells[index * COLUMNS + column] ?? 0
    return hopsOf(storedAt, cell(SENT), cell(ANSWERED), cell(SEEN), cell(SENDINGS))
  }

  /** Version u8, when it was stored (epoch ms), then four numbers a message; all but the version as LEB128 without sign. */
  encode(storedAt: number): Uint8Array {
    const bytes = new Uint8Array(1 + 8 + this.cells.length * 5)
    bytes[0] = 1
    let at = 1
    const put = (n: number) => {
      let left = n
      while (left >= 128) {
        bytes[at++] = (left % 128) + 128
        left = Math.floor(left / 128)
      }
      bytes[at++] = left
    }
    put(Math.max(0, Math.round(storedAt)))
    for (const cell of this.cells) put(cell)
    return bytes.slice(0, at)
  }
}

function hopsOf(storedAt: number, sent: number, answered: number, seen: number, sendings: number): Hops {
  const time = (cell: number) => (cell === 0 ? null : storedAt + cell - 1)
  return { sentAt: time(sent), answeredAt: time(answered), seenAt: time(seen), sendings }
}

/** Reads what `encode` wrote of `count` messages; what is damaged or of another version says nothing. */
export function decodeHops(bytes: Uint8Array, count: number): Hops[] | null {
  if (bytes[0] !== 1) return null
  let at = 1
  const take = (): number => {
    let n = 0
    for (let scale = 1; ; scale *= 128) {
      const octet = bytes[at++]
      if (octet === undefined || scale > 2 ** 49) return Number.NaN
      n += (octet & 127) * scale
      if (octet < 128) return n
    }
  }
  const storedAt = take()
  const hops: Hops[] = []
  for (let i = 0; i < count; i++) {
    const [sent, answered, seen, sendings] = [take(), take(), take(), take()] as const
    hops.push(hopsOf(storedAt, sent, answered, seen, sendings))
    if (Number.isNaN(sendings)) return null
  }
  return at === bytes.length ? hops : null
}
