import { type Moment, readBlock } from '~/core/recording/block'
import { OctetError } from '~/core/shape/octets'
import type { Scalar } from '~/core/value/deadband'
import type { Db } from '~/store/database'
import { blocksAfter, lastGap, recordedThrough, wholeBlocks, wholeMoment } from '~/store/recording'
import type { Packing } from '../outbox/packing'

/** So many blocks are read at once. */
const PAGE = 20

/** What some tags held in a span of time. */
export interface Playback {
  /** From when it is known without a gap, epoch ms: not before what was asked for. */
  from: number
  /** Up to when it is written: what comes now is written some seconds later. */
  to: number
  /** What they held then first, then what became of them, moment by moment. */
  moments: AsyncGenerator<Moment>
  /** Blocks that could not be read. */
  damaged(): number
}

/** What was recorded of some tags from one moment to another (epoch ms); null: nothing. */
export async function playback(db: Db, packing: Packing, wanted: ReadonlySet<number>, from: number, until: number): Promise<Playback | null> {
  const to = Math.min(until, (await recordedThrough(db)) ?? until)
  // What lies before a gap says nothing of how much goes in a time. A run begins with what all tags hold, in whole ms.
  const gap = await lastGap(db, to)
  const wholeAt = await wholeMoment(db, from, gap === null ? 0 : Math.floor(gap))
  if (wholeAt === null || wholeAt > to) return null
  const begin = Math.max(from, wholeAt)
  let damaged = 0
  const read = async (body: Uint8Array): Promise<Moment[]> => {
    try {
      return readBlock(await packing.unpack(body), (h) => wanted.has(h))
    } catch (e) {
      // What cannot be unpacked is damaged too: zlib tells it by a code.
      if (!(e instanceof OctetError) && !(e as { code?: string }).code?.startsWith('Z_') && (e as { code?: string }).code !== 'ERR_BUFFER_TOO_LARGE')
        throw e
      damaged++
      return []
    }
  }
  async function* moments(): AsyncGenerator<Moment> {
    const held = new Map<number, [value: Scalar, status: number, time: number]>()
    const hold = (m: Moment) => {
      for (const [i, h] of m.handles.entries()) held.set(h, [m.values[i]!, m.statuses[i]!, m.times[i]!])
    }
    let last = 0
    for (const { id, body } of await wholeBlocks(db, wholeAt!)) {
      last = Math.min(last || id, id)
      for (const m of await read(body)) hold(m)
    }
    let begun = false
    const beginning = (): Moment => {
      begun = true
      const all = [...held]
      return {
        at: begin,
        came: false,
        handles: all.map(([h]) => h),
        values: all.map(([, [value]]) => value),
        statuses: all.map(([, [, status]]) => status),
        times: all.map(([, [, , time]]) => time),
      }
    }
    for (;;) {
      const page = await blocksAfter(db, last, wholeAt!, to, PAGE)
      for (const { id, body } of page) {
        last = id
        for (const m of await read(body)) {
          if (m.at < wholeAt! || m.at > to) continue
          // Whether what came just then is among what all held is not known.
          if (m.at < begin || m.at === wholeAt) hold(m)
          else {
            if (!begun) yield beginning()
            yield m
          }
        }
      }
      if (page.length < PAGE) break
    }
    if (!begun) yield beginning()
  }
  return { from: begin, to, moments: moments(), damaged: () => damaged }
}
