import type { Heard, HeardTopic } from '~/contract/sources/mqtt'
import { examine } from '~/core/source/payload'

/** Larger payloads are counted, and not looked into: reading them would hold up all others. */
const EXAMINED_MAX = 262_144
/** So much of them is shown. */
const SHOWN_OCTETS = 2000

/** More topics than this are not shown: narrower filters are wanted then. */
const TOPICS_MAX = 5000

interface Kept {
  count: number
  first: number
  last: number
  /** Octets of the last payload, and what of it is kept. */
  size: number
  bytes: Uint8Array
  retained: boolean
  told: boolean
}

const kept = (bytes: Uint8Array) => (bytes.length > EXAMINED_MAX ? bytes.slice(0, SHOWN_OCTETS) : bytes)

/** What is shown of a payload that is too large to be looked into. */
function unexamined(k: Kept): Pick<HeardTopic, 'sample' | 'format' | 'leaves'> {
  const head = Buffer.from(k.bytes).toString('utf8').slice(0, 500)
  return { sample: `too large to be looked into; begins with ${head}`, format: 'bytes', leaves: [] }
}

/** Gathers what is heard on topics, for people who look for tags. */
export class Listening {
  private readonly topics = new Map<string, Kept>()
  private messages = 0
  private more = false
  private readonly began = Date.now()

  message(topic: string, bytes: Uint8Array, retained: boolean): void {
    this.messages++
    const now = Date.now()
    const one = this.topics.get(topic)
    if (one) {
      one.count++
      one.last = now
      one.size = bytes.length
      one.bytes = kept(bytes)
      one.told = false
    } else if (this.topics.size < TOPICS_MAX)
      this.topics.set(topic, { count: 1, first: now, last: now, size: bytes.length, bytes: kept(bytes), retained, told: false })
    else this.more = true
  }

  /** What has changed since the last call. */
  tell(over: boolean): Heard {
    const topics: HeardTopic[] = []
    const elapsedS = (Date.now() - this.began) / 1000
    for (const [topic, k] of this.topics) {
      if (k.told) continue
      k.told = true
      const rate = k.count > 1 && k.last > k.first ? ((k.count - 1) * 1000) / (k.last - k.first) : 0
      const found = k.size > EXAMINED_MAX ? unexamined(k) : examine(topic, k.bytes)
      topics.push({ topic, count: k.count, rate, bytes: k.size, retained: k.retained, ...found })
    }
    return { elapsedS, messages: this.messages, topics, over, more: this.more }
  }
}
