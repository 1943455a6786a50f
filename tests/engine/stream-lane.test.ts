import fc from 'fast-check'
import { expect, it } from 'vitest'
import { BatchLane, type Entry, freshMemory } from '~/engine/destinations/batch-lane'
import { Faults } from '~/standins/stream/faults'
import { Partition, Truth } from '~/standins/stream/log'

interface Kept {
  value: Buffer
}

/** What becomes of one request. */
const fates = ['kept', 'answer lost', 'request lost', 'elsewhere', 'cut between'] as const

it('every message of a partition is kept once and in order, whatever becomes of requests and answers', () => {
  fc.assert(
    fc.property(
      fc.array(fc.constantFrom(...fates), { maxLength: 60 }),
      fc.array(fc.integer({ min: 1, max: 7 }), { minLength: 1, maxLength: 60 }),
      fc.array(fc.integer({ min: 1, max: 12 }), { minLength: 1, maxLength: 20 }),
      (what, sizes, rooms) => {
        const count = 40
        const partition = new Partition('t', 0, 1, 10_000)
        const [faults, truth] = [new Faults(), new Truth(10_000)]
        const memory = freshMemory<Kept>()
        const done = new Set<number>()
        let lane = new BatchLane<Kept>('t 0', memory)
        const offered = new Set<number>()
        /** Offers the oldest that have no answer, as a supervisor does. */
        const offer = (room: number) => {
          for (let n = 0; n < count && offered.size < room; n++) {
            if (done.has(n) || offered.has(n)) continue
            const record = { value: Buffer.from(`${n}`) }
            if (lane.has(n)) {
              done.add(n)
              continue
            }
            offered.add(n)
            lane.add({ ordinal: n, record, octets: 1, alone: false, answer: () => undefined }, 0)
          }
        }
        const again = () => {
          lane = new BatchLane<Kept>('t 0', memory)
          offered.clear()
        }
        for (let turn = 0; done.size < count; turn++) {
          expect(turn).toBeLessThan(2000)
          const fate = what[turn] ?? 'kept'
          // As few as one at a time, after "not now".
          offer(rooms[turn % rooms.length]!)
          if (done.size === count) break
          if (!lane.due(1e9, { lingerMs: 0, most: { octets: 1e9, count: 1e9 } })) continue
          const { entries, sequence } = lane.take({ octets: sizes[turn % sizes.length]!, count: 1000 })
          const records = entries.map(({ record }) => ({ key: null, value: record.value, headers: [], at: 1 }))
          const batch = { producerId: 1n, producerEpoch: 0, sequence, records }
          let error = 6
          if (fate === 'kept' || fate === 'answer lost') {
            const judged = partition.judge(batch)
            error = judged.error
            if (error === 0 && judged.offset === null) partition.keep(batch, 'x', faults, truth)
          }
          if (fate === 'answer lost' || fate === 'request lost' || fate === 'cut between') {
            lane.unknown(0)
            again()
          } else if (fate === 'elsewhere') {
            lane.failed(0)
            again()
          } else {
            expect(error).toBe(0)
            for (const { ordinal } of lane.kept(0)) {
              done.add(ordinal)
              offered.delete(ordinal)
            }
          }
        }
        expect(partition.records.map((r) => Number(r.value))).toEqual(Array.from({ length: count }, (_, n) => n))
      },
    ),
    { numRuns: 400 },
  )
})

it('a batch that goes again goes whole, however few of it have been handed out again; the rest has its answer when it comes', () => {
  const memory = freshMemory<Kept>()
  const said: number[] = []
  const record = { value: Buffer.alloc(1) }
  const entry = (ordinal: number): Entry<Kept> => ({ ordinal, record, octets: 1, alone: false, answer: () => said.push(ordinal) })
  memory.unsure.set('t 0', { sequence: 7, batch: [3, 4, 9].map((ordinal) => ({ ordinal, record, octets: 1 })) })
  const pace = { lingerMs: 1000, most: { octets: 10, count: 10 } }
  const lane = new BatchLane<Kept>('t 0', memory)
  expect(lane.due(0, pace)).toBe(false)
  lane.add(entry(3), 0)
  lane.add(entry(12), 0)
  expect(lane.due(0, pace)).toBe(true)
  const { entries, sequence } = lane.take({ octets: 1, count: 1 })
  expect([sequence, ...entries.map((e) => e.ordinal)]).toEqual([7, 3, 4, 9])
  // One comes while it flies.
  expect(lane.has(4)).toBe(false)
  lane.add(entry(4), 0)
  expect(lane.kept(0).map((e) => e.ordinal)).toEqual([3, 4])
  expect([lane.has(8), lane.has(9), lane.has(9)]).toEqual([false, true, false])
  expect(lane.waiting.map((e) => e.ordinal)).toEqual([12])
  expect(memory.had.size).toBe(0)
})
