import fc from 'fast-check'
import { expect, it } from 'vitest'
import { Malformed, Reader, Writer } from './octets'
import { Corrupt, crc32c, readBatches, UnknownPacking, writeBatch } from './records'

const octets = fc.uint8Array({ maxLength: 200 }).map((all) => Buffer.from(all))
const record = fc.record({
  key: fc.option(octets),
  value: fc.option(octets),
  headers: fc.array(fc.tuple(fc.string({ maxLength: 20 }), fc.option(octets)), { maxLength: 4 }),
  at: fc.integer({ min: 0, max: 4_000_000_000_000 }),
})

it('the checksum is that of the standard (RFC 3720 B.4)', () => {
  expect(crc32c(Buffer.alloc(32)).toString(16)).toBe('8a9136aa')
  expect(crc32c(Buffer.from('123456789')).toString(16)).toBe('e3069283')
})

it('batches are read as they were written, one behind the other, packed or not', () => {
  fc.assert(
    fc.property(fc.array(fc.array(record, { minLength: 1, maxLength: 6 }), { minLength: 1, maxLength: 3 }), fc.boolean(), (batches, gzip) => {
      let offset = 0
      const by = { producerId: 7n, producerEpoch: 2, sequence: 40 }
      const written = batches.map((records) =>
        writeBatch(
          records.map((r) => ({ ...r, offset: offset++ })),
          by,
          gzip,
        ),
      )
      expect(readBatches(Buffer.concat(written))).toEqual(batches.map((records) => ({ ...by, records })))
    }),
  )
})

it('a batch with a wrong octet, cut short or packed as nobody knows is refused', () => {
  const good = writeBatch([{ key: null, value: Buffer.from('18.4'), headers: [], at: 1, offset: 0 }])
  expect(readBatches(good)).toHaveLength(1)
  for (let at = 8; at < good.length; at++) {
    const bad = Buffer.from(good)
    bad[at] = bad[at]! ^ 0x10
    // The epoch of the leader is no part of what is summed up: a server writes it.
    if (at < 12 || at > 15) expect(() => readBatches(bad)).toThrow(Corrupt)
    expect(() => readBatches(good.subarray(0, at))).toThrow(Corrupt)
  }
  const packed = Buffer.from(good)
  packed.writeInt16BE(4, 21)
  packed.writeUInt32BE(crc32c(packed.subarray(21)), 17)
  expect(() => readBatches(packed)).toThrow(UnknownPacking)
  expect(readBatches(packed, { 4: (body) => body })).toHaveLength(1)
})

it('numbers, texts and lists come back in both kinds of versions; a list longer than its frame is refused', () => {
  fc.assert(
    fc.property(
      fc.boolean(),
      fc.array(fc.option(fc.string())),
      fc.bigInt({ min: -(2n ** 63n), max: 2n ** 63n - 1n }),
      fc.nat(),
      (flexible, texts, n, u) => {
        const write = new Writer(flexible)
        write
          .list(texts, (text) => write.text(text))
          .int64(n)
          .varint(n)
          .uvarint(u)
          .bytes(null)
          .tags()
        const read = new Reader(write.done(), flexible)
        expect([read.list(() => read.text()), read.int64(), read.varint(), read.uvarint(), read.bytes()]).toEqual([texts, n, n, u, null])
        read.tags()
        expect(read.left).toBe(0)
      },
    ),
  )
  // However it falls on the pieces of memory that it is written to.
  const write = new Writer()
  for (let n = 0; n < 5000; n++)
    write
      .uint8(n & 0xff)
      .int32(n)
      .varint(n)
  const read = new Reader(write.done())
  for (let n = 0; n < 5000; n++) expect([read.int8() & 0xff, read.int32(), read.varint()]).toEqual([n & 0xff, n, BigInt(n)])
  const long = new Reader(new Writer().int32(2_000_000_000).done())
  expect(() => long.list(long.int8)).toThrow(Malformed)
  expect(() => new Reader(Buffer.alloc(11, 0xff)).varint()).toThrow(Malformed)
})
