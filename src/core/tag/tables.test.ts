import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { type Tag, TagDraft } from '~/contract/tag'
import { bookOf, formula, rich } from '../../../tests/workbook'
import { surroundings, tagColumns } from './columns'
import { emptyFlat, flatten, unflatten } from './flat'
import { editOf, finish, PlanError, planRows } from './plan'
import { decodeText, guarded, readBytes, readText, type Sheet, writeText } from './sheet'
import { readWorkbook, unpackedSize, writeWorkbook } from './workbook'

const kiln = '01990000-0000-7000-8000-000000000001'
const meters = '01990000-0000-7000-8000-000000000002'
const made = '01990000-0000-7000-8000-000000000003'
const fast = '01990000-0000-7000-8000-000000000009'
const around = surroundings(
  [
    { id: kiln, name: 'Kiln 1', kind: 'opcua' },
    { id: meters, name: 'Meters; north', kind: 'modbus' },
    { id: made, name: 'Made up', kind: 'simulated' },
  ],
  [{ id: fast, name: 'fast' }],
)
const columns = tagColumns.map((c) => c.key)

let handle = 0
const tag = (name: string, more: Partial<Tag> = {}): Tag => ({
  ...TagDraft.parse({ name, sourceId: kiln, address: `ns=2;s=${name}`, dataType: 'number' }),
  id: `01990000-0000-7000-9000-${String(++handle).padStart(12, '0')}`,
  handle,
  version: 3,
  ...more,
})

const size = fc.integer({ min: 0, max: 1000 }).map((n) => n / 8)
const deadband = (range: boolean) =>
  fc.option(fc.record({ kind: fc.constantFrom('absolute' as const, ...(range ? (['percent'] as const) : [])), size }))
const words = fc.string({ maxLength: 20, unit: 'grapheme' }).map((s) => s.replace(/\p{Cc}/gu, '').trim())
/** Tags of every make; names and nodes are unique by their place. */
const anyTag = (i: number) =>
  fc.boolean().chain((ranged) =>
    fc.record({
      name: words.map((w) => `Area/${i} ${w.replaceAll('/', ' ')}`.trim()),
      sourceId: fc.constant(kiln),
      address: fc.constant(`ns=2;s=node ${i}, "x"`),
      dataType: fc.constant('number' as const),
      unit: fc.constantFrom('', '°C', 'bar', 'clay'),
      description: fc.oneof(words, fc.constantFrom('=1+1', "'=x", '-3', '+a', '@b', 'a\nb', 'a;b,c\td|e', '""')),
      format: fc.constantFrom('', '0.00', '#,##0.0'),
      range: ranged ? fc.record({ low: size, high: size.map((n) => n + 200) }) : fc.constant(null),
      deadband: deadband(ranged),
      scaling: fc.option(
        fc.record({ rawLow: size, rawHigh: size.map((n) => n + 200), low: size.map((n) => -n - 1), high: size, clamp: fc.boolean() }),
      ),
      access: fc.constantFrom('read' as const, 'read-write' as const),
      sampleMs: fc.option(fc.integer({ min: 50, max: 3_600_000 })),
      groupId: fc.constantFrom(null, fast),
      initial: fc.option(size),
      hold: fc.constantFrom('nothing' as const, 'engine' as const, 'machine' as const),
      history: fc.option(fc.record({ deadband: deadband(ranged), minMs: fc.integer({ min: 0, max: 900 }), maxMs: fc.constantFrom(0, 1000) })),
      chart: fc.option(fc.record({ low: fc.option(size), high: fc.option(size), line: fc.constantFrom('straight' as const, 'steps' as const) })),
      signal: fc.constantFrom('', 'sine low=0 high=10 period=60'),
      simulated: fc.constant(false),
    }),
  )
const anyTags = fc
  .integer({ min: 1, max: 6 })
  .chain((n) => fc.tuple(...Array.from({ length: n }, (_, i) => anyTag(i))))
  .map((drafts) =>
    drafts.map((d, i): Tag => ({ ...TagDraft.parse(d), id: `01990000-0000-7000-a000-${String(i).padStart(12, '0')}`, handle: i, version: 1 })),
  )
const planOf = (sheet: Sheet, tags: readonly Tag[]) => finish(planRows({ ...sheet, tags, around }))
const plan = (text: string, tags: readonly Tag[] = []) => planOf(readText(text), tags)

describe('columns', () => {
  it('every tag comes back from its columns as it was, and its schema agrees', () => {
    fc.assert(
      fc.property(anyTags, (tags) => {
        for (const t of tags) {
          const { id: _i, handle: _h, version: _v, ...draft } = t
          const wrong: string[] = []
          expect(unflatten(flatten(t, around), around, (k, p) => wrong.push(`${k} ${p}`))).toEqual(draft)
          expect(wrong).toEqual([])
          for (const [i, text] of flatten(t, around).entries()) expect(tagColumns[i]!.clean(text, around)).toEqual({ text })
        }
      }),
    )
  })

  it('an empty tag has the defaults of the schema', () => {
    const { name: _n, sourceId: _s, address: _a, ...rest } = unflatten(emptyFlat, around, () => undefined)
    expect(TagDraft.parse({ ...rest, name: 'a', sourceId: kiln, address: 'i=1' })).toEqual({ ...rest, name: 'a', sourceId: kiln, address: 'i=1' })
  })

  it.each([
    ['type', 'Number', 'number'],
    ['unit', 'CEL', '°C'],
    ['unit', 'degC', '°C'],
    ['deadband', '1.50%', '1.5 %'],
    ['deadband', '0.10', '0.1'],
    ['low', '1e3', '1000'],
    ['access', 'READ-WRITE', 'read-write'],
    ['simulated', 'True', 'yes'],
    ['history_min_ms', '0', ''],
  ])('%s: %s is %s', (key, given, text) => expect(tagColumns.find((c) => c.key === key)!.clean(given, around)).toEqual({ text }))

  it.each([
    ['type', 'float'],
    ['low', '0x10'],
    ['low', 'Infinity'],
    ['deadband', '-1'],
    ['deadband', '5 m'],
    ['rate_ms', '10'],
    ['rate_ms', '500.5'],
    ['group', 'slow'],
    ['source', ''],
    ['source', 'Kiln 9'],
    ['name', 'a//b'],
    ['name', '/a'],
    ['name', 'a\tb'],
    ['description', 'x'.repeat(501)],
    ['id', 'seven'],
    ['hold', 'forever'],
    ['simulated', 'maybe'],
  ])('%s does not take %s', (key, given) => expect(tagColumns.find((c) => c.key === key)!.clean(given, around)).toHaveProperty('problem'))
})

describe('a round trip', () => {
  const ways = fc.constantFrom(
    { separator: ',' as const, decimal: '.' as const },
    { separator: ';' as const, decimal: ',' as const },
    { separator: '\t' as const, decimal: '.' as const },
  )
  it('written out and read again, nothing changes; one edited cell is one change', () => {
    fc.assert(
      fc.property(anyTags, ways, fc.nat(), (tags, how, seed) => {
        const flats = tags.map((t) => flatten(t, around))
        const sheet = readText(writeText(flats, columns, how))
        expect(sheet.separator).toBe(how.separator)
        const same = planOf({ ...sheet, decimal: how.decimal }, tags)
        expect(same.counts).toEqual({ add: 0, change: 0, same: tags.length, faulty: 0 })
        const at = seed % tags.length
        const edited = flats.map((f, i) => (i === at ? f.map((c, k) => (tagColumns[k]!.key === 'unit' ? 'kPa' : c)) : f))
        const one = planOf({ ...readText(writeText(edited, columns, how)), decimal: how.decimal }, tags)
        expect(one.rows.flatMap((r) => r.changes)).toEqual([{ column: 'unit', old: tags[at]!.unit, new: 'kPa' }])
        expect(editOf(one.rows)).toEqual({ add: [], change: [{ id: tags[at]!.id, version: 1, unit: 'kPa' }], remove: [] })
      }),
      { numRuns: 60 },
    )
  })

  it('also through a workbook', async () => {
    await fc.assert(
      fc.asyncProperty(anyTags, async (tags) => {
        const { sheet } = await readWorkbook(
          await writeWorkbook(
            tags.map((t) => flatten(t, around)),
            columns,
          ),
        )
        expect(planOf(sheet, tags).counts.same).toBe(tags.length)
      }),
      { numRuns: 15 },
    )
  })

  it('no cell is one that a spreadsheet computes, and every text comes back', () => {
    fc.assert(
      fc.property(fc.oneof(fc.string(), fc.constantFrom('=1', "'=1", "''+x", '@', '-1', '-x', '\t', '\r=')), (text) => {
        const out = guarded(text)
        expect(/^[=+@\t\r]/.test(out) || (out.startsWith('-') && Number.isNaN(Number(out)))).toBe(false)
        expect(/^'+[=+\-@\t\r]/.test(out) ? out.slice(1) : out).toBe(text)
      }),
    )
  })
})

describe('a plan', () => {
  it('says what would be added, changed, left and refused, with row, column and reason', () => {
    const tags = [tag('A/one', { unit: 'bar' }), tag('A/two'), tag('A/three')]
    const p = plan(
      [
        'Name,source,Address,Unit,type,low,high',
        'A/one,Kiln 1,ns=2;s=A/one,kPa,number,,',
        'A/two,Kiln 1,ns=2;s=A/two,,number,,',
        'A/four,Kiln 1,ns=2;s=4,degC,number,0,100',
        'A/five,Kiln 7,,degC,float,9,1',
        'A/six,Kiln 1,nonsense,,,5,',
      ].join('\n'),
      tags,
    )
    expect(p.counts).toEqual({ add: 1, change: 1, same: 1, faulty: 2 })
    expect(p.rows[0]).toMatchObject({ line: 2, state: 'change', changes: [{ column: 'unit', old: 'bar', new: 'kPa' }] })
    expect(p.rows[2]!.draft).toMatchObject({ name: 'A/four', sourceId: kiln, unit: '°C', range: { low: 0, high: 100 } })
    expect(p.rows[3]!.faults.map((f) => [f.column, f.reason])).toEqual([
      ['source', 'There is no source Kiln 7'],
      ['type', 'float is none of boolean, integer, number, text, time'],
      ['address', 'Which node?'],
    ])
    expect(p.rows[4]!.faults.map((f) => [f.column, f.reason])).toEqual([
      ['high', 'A range needs both ends'],
      ['address', 'A node id is like ns=2;s=kiln.oxygen'],
    ])
  })

  it('finds a tag by its id, so that its name can be another', () => {
    const t = tag('A/old')
    const p = plan(`id;name\n${t.id};A/new\n${crypto.randomUUID()};A/other`, [t])
    expect(p.rows[0]!.changes).toEqual([{ column: 'name', old: 'A/old', new: 'A/new' }])
    expect(p.rows[1]!.faults.some((f) => f.column === 'id')).toBe(true)
  })

  it('two tags may change names with each other; a name that stays taken is refused, and what followed from it too', () => {
    const [a, b, c] = [tag('a'), tag('b'), tag('c')] as const
    expect(plan(`id,name\n${a.id},b\n${b.id},a`, [a, b, c]).counts.change).toBe(2)
    const p = plan(`id,name,type\n${a.id},b,\n${b.id},c,\n${c.id},c,float`, [a, b, c])
    expect(p.rows.map((r) => [r.state, r.faults[0]?.column])).toEqual([
      ['faulty', 'name'],
      ['faulty', 'name'],
      ['faulty', 'type'],
    ])
  })

  it('one node is one tag, but for made-up signals', () => {
    const p = plan(
      'name,source,address\nx,Kiln 1,ns=2;s=a\ny,Kiln 1,ns=2;s=a\nv,Made up,sine low=0 high=1 period=9\nw,Made up,sine low=0 high=1 period=9',
      [tag('t', { address: 'ns=2;s=b' })],
    )
    expect(p.rows.map((r) => r.state)).toEqual(['add', 'faulty', 'add', 'add'])
    expect(p.rows[1]!.faults[0]).toMatchObject({ column: 'address', reason: 'Row 2 has the same node' })
  })

  it('another way to write the same is no change; columns that are not given stay', () => {
    const t = tag('m', { sourceId: meters, address: 'holding 100 float32 CDAB', deadband: { kind: 'absolute', size: 0.5 } })
    const own = flatten(t, around)
    expect(plan(`name;deadband;clamp\n m ;0,50;FALSE`, [t]).rows[0]).toMatchObject({ state: 'same' })
    expect(own[tagColumns.findIndex((c) => c.key === 'source')]).toBe('Meters; north')
  })

  it('a tag does not move to another source', () =>
    expect(plan('name,source\na,Made up', [tag('a')]).rows[0]!.faults[0]).toMatchObject({ column: 'source' }))

  it('the same tag twice, the same column twice, no known column: each is said', () => {
    const t = tag('a')
    expect(plan('name,unit\na,bar\na,kPa', [t]).rows[1]!.faults[0]!.reason).toBe('Row 2 is about the same tag')
    expect(() => plan('name,unit,Unit\na,bar,kPa', [t])).toThrow('The column Unit is there twice')
    expect(() => plan('colour,weight\nred,7', [t])).toThrow(PlanError)
    expect(plan('name,colour\na,red', [t]).ignored).toEqual(['colour'])
  })
})

describe('what comes from outside', () => {
  it.each([
    ['name;low\na;1,5\n', ';', ','],
    ['name,low\na,1.5\n', ',', '.'],
    ['name\tlow\r\na\t1,5\r\n', '\t', ','],
    ['name|low\na|"1"\n', '|', '.'],
  ])('%j: separator %j, decimal %j', (text, separator, decimal) =>
    expect(readText(text)).toMatchObject({ separator, decimal, heading: ['name', 'low'] }),
  )

  it('the encoding is found out', () => {
    const utf8 = new TextEncoder().encode('name,description\na,Öl °C\n')
    expect(readBytes(utf8)).toMatchObject({ encoding: 'utf-8', rows: [{ line: 2, cells: ['a', 'Öl °C'] }] })
    expect(readBytes(new Uint8Array([0xef, 0xbb, 0xbf, ...utf8])).heading).toEqual(['name', 'description'])
    expect(readBytes(Buffer.from('name,description\na,Öl °C\n', 'latin1'))).toMatchObject({
      encoding: 'windows-1252',
      rows: [{ cells: ['a', 'Öl °C'] }],
    })
    expect(readBytes(Buffer.from('\ufeffname,unit\na,°C\n', 'utf16le'))).toMatchObject({ encoding: 'utf-16le', rows: [{ cells: ['a', '°C'] }] })
    expect(decodeText(Buffer.from('\ufeffa', 'utf16le').swap16()).encoding).toBe('utf-16be')
  })

  it.each([
    ['', 'There is nothing in it'],
    ['   \n', 'There is nothing in it'],
    ['name,unit\na,"open', 'Quotes do not match'],
    ['name\0', 'This is no text'],
  ])('%j is refused: %s', (text, reason) => expect(() => readText(text)).toThrow(reason))

  it('a row with too many cells is told apart from the others', () => {
    const p = plan('name,unit\na,bar,extra\nb,kPa', [tag('a'), tag('b')])
    expect(p.rows.map((r) => r.state)).toEqual(['faulty', 'change'])
    expect(p.rows[0]!.faults[0]!.reason).toContain('The row has 3 cells, the heading 2')
  })

  it('a cell of ten megabytes is one faulty row', () => {
    const p = plan(`name,description\na,${'x'.repeat(10 << 20)}\nb,fine`, [tag('a'), tag('b')])
    expect(p.rows.map((r) => r.state)).toEqual(['faulty', 'change'])
    expect(p.rows[0]!.faults[0]!.reason).toContain('At most 500 characters')
    expect(JSON.stringify(p).length).toBeLessThan(20_000)
  })

  it('random bytes are refused or planned, and never break it', () => {
    const tags = [tag('a')]
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 300 }), (bytes) => {
        try {
          planOf(readBytes(bytes), tags)
        } catch (e) {
          expect(e).toBeInstanceOf(PlanError)
        }
        try {
          plan(`name,unit,low\n${new TextDecoder('windows-1252').decode(bytes)}`, tags)
        } catch (e) {
          expect(e).toBeInstanceOf(PlanError)
        }
      }),
    )
  })

  it('a workbook with formulas and a hundred sheets: results count, and the right sheet is found', async () => {
    const notes = Object.fromEntries(Array.from({ length: 99 }, (_, i) => [`notes ${i}`, [['nothing', 'of tags']]]))
    const bytes = bookOf(
      {
        ...notes,
        tags: [
          ['name', 'address', 'unit', 'description', 'low'],
          ['a', formula('"ns=2;s="&"a"', 'ns=2;s=a'), { attributes: 't="s"', inside: '<v>0</v>' }, 'link', null],
          ['b', formula('NOW()', null), null, null, { attributes: 't="e"', inside: '<v>#DIV/0!</v>' }],
        ],
      },
      { shared: [rich('k', 'Pa')] },
    )
    const read = await readWorkbook(bytes)
    expect(read.name).toBe('tags')
    expect(read.sheets.length).toBe(100)
    expect(read.sheet.remarks).toEqual(['Sheet tags of 100', '2 formulas count by what the spreadsheet last computed'])
    const p = planOf(read.sheet, [tag('a', { address: 'ns=2;s=a' }), tag('b')])
    expect(p.rows[0]).toMatchObject({
      state: 'change',
      changes: [
        { column: 'unit', new: 'kPa' },
        { column: 'description', new: 'link' },
      ],
    })
    expect(p.rows[1]!.faults.map((f) => f.column)).toContain('low')
    await expect(readWorkbook(bytes, 'gone')).rejects.toThrow('There is no sheet gone')
    await expect(readWorkbook(bytes, 'notes 3').then((r) => planOf(r.sheet, []))).rejects.toThrow('no column called name or id')
  })

  it('what is no workbook, or would unpack to too much, is refused before it is opened', async () => {
    await expect(readWorkbook(new TextEncoder().encode('name,unit\n'))).rejects.toThrow('no XLSX workbook')
    const bytes = await writeWorkbook([flatten(tag('a'), around)], columns)
    expect(unpackedSize(bytes)).toBeGreaterThan(1000)
    const view = new DataView(bytes.buffer, bytes.byteOffset)
    for (let i = 0; i < bytes.length - 46; i++) if (view.getUint32(i, true) === 0x02014b50) view.setUint32(i + 24, 0x7fffffff, true)
    await expect(readWorkbook(bytes)).rejects.toThrow('Unpacked it would be')
    await expect(readWorkbook(bytes.slice(0, bytes.length >> 1))).rejects.toThrow(PlanError)
  })
})
