import fc from 'fast-check'
import { expect, it } from 'vitest'
import { type Entry, PartitionLane, type ProducerMemory } from '~/engine/destinations/stream/lane'
import { Faults } from '~/standins/stream/faults'
import { Partition, Truth } from '~/standins/stream/log'

/** What becomes of one request. */
const fates = ['kept', 'answer lost', 'request lost', 'elsewhere', 'cut between'] as const

it('every message of a partition is kept once and in order, whatever becomes of requests and answers', () => {
  fc.assert(
    fc.property(
      fc.array(fc.constantFrom(...fates), { maxLength: 60 }),
      fc.array(fc.integer({ min: 1, max: 7 }), { minLength: 1, maxLength: 60 }),
      (what, sizes) => {
        const count = 40
        const partition = new Partition('t', 0, 1, 10_000)
        const [faults, truth] = [new Faults(), new Truth(10_000)]
        const memory: ProducerMemory = { producer: { id: 1n, epoch: 0 }, next: new Map(), unsure: new Map() }
        const done = new Set<number>()
        let lane = new PartitionLane('t', 0, memory)
        const offered = new Set<number>()
        /** Offers the oldest that have no answer, as a supervisor does. */
        const offer = (room: number) => {
          for (let n = 0; n < count && offered.size < room; n++) {
            if (done.has(n) || offered.has(n)) continue
            offered.add(n)
            const record = { topic: 't', partition: 0, value: Buffer.from(`${n}`) }
            const m = { ordinal: n } as Entry['m']
            lane.add({ m, record, octets: 1, alone: false, answer: () => undefined }, 0)
          }
        }
        const again = () => {
          lane = new PartitionLane('t', 0, memory)
          offered.clear()
        }
        for (let turn = 0; done.size < count; turn++) {
          expect(turn).toBeLessThan(2000)
          const fate = what[turn] ?? 'kept'
          offer(12)
          const due = lane.due(1e9, { lingerMs: 0, most: 1e9, patienceMs: Number.POSITIVE_INFINITY })
          // Nothing that is offered from the oldest on can be in the way of what was unsure.
          expect(due).toBe('now')
          const { entries, sequence } = lane.take(sizes[turn % sizes.length]!)
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
            for (const { m } of lane.kept(0)) {
              done.add(m.ordinal)
              offered.delete(m.ordinal)
            }
          }
        }
        expect(partition.records.map((r) => Number(r.value))).toEqual(Array.from({ length: count }, (_, n) => n))
      },
    ),
    { numRuns: 400 },
  )
})

it('a batch that can never go again as it was is told, and one whose rest is on its way is waited for', () => {
  const memory: ProducerMemory = { producer: { id: 1n, epoch: 0 }, next: new Map(), unsure: new Map([['t 0', { sequence: 0, ordinals: [3, 4, 7] }]]) }
  const entry = (ordinal: number) =>
    ({
      m: { ordinal },
      record: { topic: 't', partition: 0, value: Buffer.alloc(1) },
      octets: 1,
      alone: false,
      answer: () => undefined,
    }) as unknown as Entry
  const pace = { lingerMs: 0, most: 10, patienceMs: 1000 }
  const lane = new PartitionLane('t', 0, memory)
  expect(lane.due(0, pace)).toBe('wait')
  lane.add(entry(3), 0)
  lane.add(entry(4), 0)
  expect(lane.due(900, pace)).toBe('wait')
  expect(lane.due(1100, pace)).toBe('broken')
  lane.add(entry(7), 0)
  lane.add(entry(8), 0)
  expect(lane.due(900, pace)).toBe('now')
  expect(lane.take(1).entries.map((e) => e.m.ordinal)).toEqual([3, 4, 7])
  const other = new PartitionLane('t', 0, memory)
  other.add(entry(5), 0)
  expect(other.due(0, pace)).toBe('broken')
})
