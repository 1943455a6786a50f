import { beforeAll, describe, expect, it } from 'vitest'
import { parseExact } from '~/core/value/exact-json'
import type { Row } from '~/core/value/plain-rows'
import { loadCompression } from '../../publications/compress'
import { columnTypes, fits } from './columns'
import { decode, encode, type Format, plainKept, type Sending } from './format'
import { endingOf, isPlace, nameOf, readName, tagOf } from './names'
import { ReadFiles } from './reading'
import { frameOctets, unzstd, zstd } from './zstd'

beforeAll(loadCompression)

const sending = (texts: readonly string[]): Sending[] =>
  texts.map((text, i) => {
    const json = parseExact(text)
    return { id: `inst.1.${i + 1}`, rows: (Array.isArray(json) ? json : [json]) as Row[], text, at: 0 }
  })

const odd = [
  '{"a":9007199254740993}',
  '{"a":-9223372036854775808}',
  '{"a":18446744073709551615}',
  '{"a":5e-324,"b":-0.0,"c":1e308}',
  '{"a":"","b":" x ","c":"\\u0000\\u2028\\"\\\\,;\\r\\n"}',
  '{"a":null,"b":true,"c":false}',
  '{"a":{"b":[1,2,{"c":"d"}],"__proto__":1},"__proto__":"x","constructor":"y"}',
  '{"a":"2026-11-29T03:00:00.123Z","b":"1960-01-01T00:00:00Z","c":"2150-06-01T12:00:00+02:00"}',
  '{"a":"😀 ü {x} \'q\'","b":"=1+1","c":"007"}',
  '{"a":[1.50,"x",null]}',
  '{\n "a": 1,\n "b": "pretty"\n}',
  `{"a":"${'x'.repeat(60_000)}"}`,
]

describe('what was sent is what is read', () => {
  const formats = (['ndjson', 'csv', 'parquet'] as const).flatMap((format) =>
    (['none', 'gzip', 'zstd'] as const).map((compression): Format => ({ format, compression, idColumn: 'embrik_id' })),
  )
  it.each(formats)('$format, $compression', async (f) => {
    const sent = sending(odd)
    for (const some of [sent, ...sent.map((m) => [m])]) {
      const octets = await encode(some, f, { fixed: new Map(), known: new Map() })
      const rows = await decode(octets, `x${endingOf(f)}`, f.idColumn)
      expect(rows.map(({ id, row }) => [id, plainKept([row])])).toEqual(some.map((m) => [m.id, plainKept(m.rows)]))
    }
  })
})

describe('columns', () => {
  const types = (texts: readonly string[], fixed: [string, 'time' | 'whole'][] = [], known = new Map()) =>
    Object.fromEntries(
      columnTypes(
        sending(texts).flatMap((m) => m.rows),
        new Map(fixed),
        known,
      ),
    )

  it('are numbers, truths or texts as their values are, and whole only where digits would be lost', () => {
    expect(types(['{"a":1,"b":true,"c":"x"}', '{"a":1.5}'])).toEqual({ a: 'number', b: 'truth', c: 'text' })
    expect(types(['{"a":1}', '{"a":9007199254740993}'])).toEqual({ a: 'whole' })
    expect(types(['{"a":1.5}', '{"a":9007199254740993}'])).toEqual({ a: 'text' })
    expect(types(['{"a":18446744073709551615}'])).toEqual({ a: 'text' })
    expect(types(['{"a":1}', '{"a":"x"}', '{"a":{"b":1}}'])).toEqual({ a: 'text' })
  })

  it('that hold nothing are left out, and those of a place only become wider', () => {
    const known = new Map()
    expect(types(['{"a":null,"b":1}'], [], known)).toEqual({ b: 'number' })
    expect(types(['{"a":1,"b":"x"}'], [], known)).toEqual({ a: 'number', b: 'text' })
    expect(types(['{"a":2,"b":1}'], [], known)).toEqual({ a: 'number', b: 'text' })
  })

  it('have the type that was fixed, and take nothing else', () => {
    expect(
      types(
        ['{"at":"2026-11-29T03:00:00Z","n":1}'],
        [
          ['at', 'time'],
          ['n', 'whole'],
        ],
      ),
    ).toEqual({ at: 'time', n: 'whole' })
    expect(['2026-11-29T03:00:00Z', '2026-11-29T03:00:00.123456+01:00', '2026-02-31T25:00:00Z', 'yesterday', 5].map((v) => fits('time', v))).toEqual([
      true,
      true,
      false,
      false,
      false,
    ])
    expect([1, -0, 1.5, 2n ** 63n - 1n, 2n ** 63n, '1'].map((v) => fits('whole', v))).toEqual([true, false, false, true, false, false])
    expect([1, 2n ** 60n, '1', true].map((v) => fits('number', v))).toEqual([true, false, false, false])
  })
})

describe('names', () => {
  const file = { place: 'lower-pit/kiln 1/zone.7', at: 1_764_385_946_000, tag: '1c1e2c52', first: 120, last: 480 }

  it('say whose a file is and what it holds, in order of time', () => {
    const name = nameOf(file, endingOf({ format: 'ndjson', compression: 'gzip' }))
    expect(name).toBe('lower-pit/kiln 1/zone.7.20251129T031226Z.1c1e2c52.120-480.ndjson.gz')
    expect(readName(name)).toEqual(file)
    expect(endingOf({ format: 'parquet', compression: 'zstd' })).toBe('.parquet')
  })

  it.each(['x.ndjson', 'a/b.20251129T031226Z.1c1e2c52.120-480.exe', 'a.20251129T031226Z.1C1E.1-2.csv', '.20251129T031226Z.1c1e2c52.1-2.csv'])(
    '%s is none of ours',
    (name) => expect(readName(name)).toBeNull(),
  )

  it('of years before 1970 and after 9999 stay in form', () => {
    for (const at of [-1e15, 1e15]) expect(readName(nameOf({ ...file, at }, '.csv'))).toMatchObject({ place: file.place, first: 120 })
  })

  it.each(['a', 'a/b c', 'ä/1.5'])('%s may be a path', (place) => expect(isPlace(place)).toBe(true))
  it.each(['', '/a', 'a/', 'a//b', '../a', 'a/..', 'a/.b', 'a\\b', 'a\u0000b', ' /a'])('%j may not', (place) => expect(isPlace(place)).toBe(false))

  it('have a tag of the end of an id', () => expect(tagOf('01a208ce-85ce-7000-ab1f-2ce1c1e2c52f')).toBe('c1e2c52f'))
})

describe('files that were read', () => {
  const name = (place: string, first: number, last: number, at = first * 1000) => nameOf({ place, at, tag: '1c1e2c52', first, last }, '.csv')
  const file = (n: string) => readName(n)!
  const read = (files: ReadFiles, n: string, counted: readonly number[], rows = 3) => files.counts(files.begin(n, file(n), rows), counted)

  it('are not read again, by this run or the next', () => {
    const files = new ReadFiles()
    const [a, b] = [name('x', 1, 3), name('x', 7, 9)]
    read(files, a, [0, 1, 2])
    for (const one of [files, new ReadFiles(JSON.parse(JSON.stringify(files.written())))]) {
      expect(one.isNew(a, file(a))).toBe(false)
      expect(one.isNew(b, file(b))).toBe(true)
      expect(one.unfinished).toEqual([])
    }
  })

  it('are gone on with where they were counted in part', () => {
    const files = new ReadFiles()
    const [a, b] = [name('x', 1, 3), name('x', 4, 6)]
    read(files, a, [1])
    read(files, b, [0, 1, 2])
    const next = new ReadFiles(JSON.parse(JSON.stringify(files.written())))
    expect(next.unfinished).toEqual([a])
    const told = next.begin(a, file(a), 3)
    expect([0, 1, 2].map((i) => told.counted.has(i))).toEqual([false, true, false])
    next.counts(told, [0, 2])
    expect(next.written().partly).toEqual([])
    expect(next.isNew(b, file(b))).toBe(false)
  })

  it('are not read again by the next run, where the clock was set back meanwhile', () => {
    const files = new ReadFiles()
    const HOUR = 3_600_000
    const [before, after, later] = [name('x', 1, 3, HOUR), name('x', 4, 6, HOUR / 2), name('x', 7, 9, HOUR + 1000)]
    read(files, before, [0, 1, 2])
    read(files, after, [0, 1, 2])
    const next = new ReadFiles(JSON.parse(JSON.stringify(files.written())))
    expect([before, after, later].map((n) => next.isNew(n, file(n)))).toEqual([false, false, true])
  })

  it('and a copy under another name is another file, as long as this run goes on', () => {
    const files = new ReadFiles()
    read(files, name('x', 1, 3), [0, 1, 2])
    const copy = name('x', 1, 3, 2000)
    expect(files.isNew(copy, file(copy))).toBe(true)
  })

  it('of places that are not remembered any more are old where they begin before those', () => {
    const files = new ReadFiles()
    for (let i = 1; i <= 5100; i++) files.pass(name(`p${i}`, i, i), file(name(`p${i}`, i, i)))
    const w = JSON.parse(JSON.stringify(files.written()))
    expect(w.places).toHaveLength(5000)
    const next = new ReadFiles(w)
    expect(next.isNew(name('p1', 1, 1), file(name('p1', 1, 1)))).toBe(false)
    expect(next.isNew(name('q', 6000, 6001), file(name('q', 6000, 6001)))).toBe(true)
  })
})

describe('Zstandard', () => {
  it('of many frames is one file, and each frame tells where it ends', async () => {
    const plain = Buffer.from(Array.from({ length: 700_000 }, (_, i) => (i * i) % 251))
    const packed = await zstd(plain)
    expect(frameOctets(packed)).toBeLessThan(packed.length)
    expect(Buffer.compare(Buffer.from(await unzstd(packed, 1e6)), plain)).toBe(0)
    expect((await unzstd(await zstd(new Uint8Array()), 10)).length).toBe(0)
    await expect(unzstd(packed, 600_000)).rejects.toThrow('octets')
    await expect(unzstd(packed.subarray(0, packed.length - 5), 1e6)).rejects.toThrow('cut short')
    await expect(unzstd(Buffer.from('no Zstandard at all'), 1e6)).rejects.toThrow('no Zstandard frame')
  })
})
