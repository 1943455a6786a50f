import type { Heard, HeardTopic } from '~/contract/sources/mqtt'
import { examine } from '~/core/source/payload'

/** More topics than this are not shown: narrower filters are wanted then. */
const TOPICS_MAX = 5000

interface Kept {
  count: number
  first: number
  last: number
  bytes: Uint8Array
  retained: boolean
  told: boolean
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
      one.bytes = bytes
      one.told = false
    } else if (this.topics.size < TOPICS_MAX) this.topics.set(topic, { count: 1, first: now, last: now, bytes, retained, told: false })
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
      topics.push({ topic, count: k.count, rate, bytes: k.bytes.length, retained: k.retained, ...examine(topic, k.bytes) })
    }
    return { elapsedS, messages: this.messages, topics, over, more: this.more }
  }
}
