import { sql } from 'kysely'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { FailureError } from '~/contract/failure'
import { newId } from '~/contract/id'
import { type Tag, TagEdit, type TagEditInput, type TagInput } from '~/contract/tag'
import { Status } from '~/core/value/quality'
import { Engine } from '~/engine/engine'
import { bootOf } from '~/engine/live/standing'
import { addGroup, changeGroup, listGroups, removeGroup } from '~/store/group'
import { migrate } from '~/store/migrate'
import { addPattern, listPatterns, removePattern } from '~/store/pattern'
import { addSource, changeSource, getSource } from '~/store/source'
import { listTags } from '~/store/tag'
import { addTags, changeTag, editTags } from '~/store/tag-edit'
import { folder, freshDatabase, until } from './support'

type Fresh = Awaited<ReturnType<typeof freshDatabase>>
const simulated = (t: Fresh, name: string, more: { enabled?: boolean; recording?: string; rateMs?: number } = {}) =>
  addSource(t.db, t.vault, {
    name,
    kind: 'simulated',
    enabled: more.enabled ?? true,
    settings: { seed: 1, recording: more.recording ?? '', rateMs: more.rateMs ?? 100, retryMs: 1000 },
  })
const failed = async (work: Promise<unknown>) => {
  const e = await work.then(
    () => null,
    (x: unknown) => x,
  )
  if (!(e instanceof FailureError)) throw new Error(`refused in no known way: ${String(e)}`)
  return { status: e.status, ...e.failure }
}

describe('an edit of many tags', () => {
  let t: Fresh
  let source = ''
  beforeAll(async () => {
    t = await freshDatabase()
    source = (await simulated(t, 'signals', { enabled: false })).id
  })
  afterAll(() => t.drop())
  const row = (name: string, more: Partial<TagInput> = {}): TagInput => ({
    name,
    sourceId: source,
    address: 'noise low=0 high=1',
    dataType: 'number',
    ...more,
  })
  const edit = (e: TagEditInput, each?: (done: number, total: number) => void) => editTags(t.db, TagEdit.parse(e), each)
  const plain = (tags: readonly Tag[]) => tags.map(({ version: _v, handle: _h, ...rest }) => rest).sort((a, b) => (a.id < b.id ? -1 : 1))

  it('adds, changes and removes in one go, and its undo brings everything back, ids too', async () => {
    const first = await edit({ add: [row('a'), row('b', { range: { low: 0, high: 10 }, deadband: { kind: 'percent', size: 5 } }), row('c')] })
    const before = await listTags(t.db)
    const [a, b, c] = before as [Tag, Tag, Tag]
    const everything: Partial<TagInput> = {
      unit: 'kW',
      format: '0.00',
      scaling: { rawLow: 4, rawHigh: 20, low: 0, high: 100, clamp: true },
      initial: 7,
      hold: 'machine',
      history: { deadband: { kind: 'absolute', size: 1 }, minMs: 100, maxMs: 60_000 },
      chart: { low: 0, high: null, line: 'steps' },
      sampleMs: 250,
    }
    const told: number[] = []
    const done = await edit(
      {
        add: [row('d')],
        change: [
          { id: a.id, version: a.version, name: 'b', ...everything },
          { id: b.id, name: 'a', range: null, deadband: null },
        ],
        remove: [{ id: c.id }],
      },
      (n) => told.push(n),
    )
    expect(told.at(-1)).toBe(4)
    const after = await listTags(t.db)
    expect(after.map((x) => x.name).sort()).toEqual(['a', 'b', 'd'])
    expect(after.find((x) => x.id === a.id)).toMatchObject({ name: 'b', ...everything, version: a.version + 1 })
    const redo = await edit(done.undo)
    expect(plain(await listTags(t.db))).toEqual(plain(before))
    await edit(redo.undo)
    expect(plain(await listTags(t.db))).toEqual(plain(after))
    expect(await failed(edit(done.undo))).toMatchObject({ code: 'tag.newer', status: 409 })
    await edit({ remove: (await listTags(t.db)).map(({ id }) => ({ id })) })
    expect(first.undo.remove.length).toBe(3)
  })

  it('is refused as a whole, each row with its reason', async () => {
    const [a, b] = (await edit({ add: [row('a'), row('b')] })).tags as [Tag, Tag]
    const refused = await failed(
      edit({
        add: [
          row('a'),
          row('e', { deadband: { kind: 'percent', size: 1 } }),
          row('f', { format: 'wide' }),
          row('g', { dataType: 'integer', scaling: { rawLow: 0, rawHigh: 1, low: 0, high: 9 } }),
          { ...row('h'), id: b.id },
        ],
        change: [
          { id: a.id, version: a.version + 1, unit: 'm' },
          { id: newId(), unit: 'm' },
          { id: b.id, initial: 'high' },
        ],
      }),
    )
    expect(refused.fields).toEqual({
      'add.0.name': 'a exists already',
      'add.1.deadband': 'Per cent of what? Give the tag a range',
      'add.2.format': expect.stringContaining('A number pattern'),
      'add.3.scaling': expect.stringContaining('must be number'),
      'add.4.id': 'This is tag b already',
      'change.0.version': 'a was changed by somebody else meanwhile',
      'change.1.id': 'There is no such tag',
      'change.2.initial': 'The initial value is no number',
    })
    expect((await listTags(t.db)).map((x) => [x.name, x.version])).toEqual([
      ['a', 1],
      ['b', 1],
    ])
    await edit({ remove: [{ id: a.id }, { id: b.id }] })
  })

  it('two at once: one waits for the other, and then sees what it did', async () => {
    const [a] = (await edit({ add: [row('a')] })).tags as [Tag]
    const change = (unit: string) => edit({ change: [{ id: a.id, version: 1, unit }] })
    const results = await Promise.allSettled([change('m'), change('s')])
    expect(results.map((r) => r.status).sort()).toEqual(['fulfilled', 'rejected'])
    await edit({ remove: [{ id: a.id }] })
  })

  it('ten thousand tags exchange their names', async () => {
    const made = await edit({ add: Array.from({ length: 10_000 }, (_, i) => row(`n${i}`)) })
    const names = made.tags.map((x) => x.name).reverse()
    const turned = await edit({ change: made.tags.map((x, i) => ({ id: x.id, name: names[i]! })) })
    expect((await listTags(t.db)).find((x) => x.id === made.tags[0]!.id)!.name).toBe('n9999')
    await edit(turned.undo)
    expect((await listTags(t.db)).find((x) => x.id === made.tags[0]!.id)!.name).toBe('n0')
  })

  it('sampling groups and patterns are kept, with names of their own', async () => {
    const fast = await addGroup(t.db, { name: 'fast', sampleMs: 100 })
    expect(await failed(addGroup(t.db, { name: 'fast', sampleMs: 200 }))).toMatchObject({ fields: { name: 'Another sampling group has this name' } })
    const [g] = (await edit({ add: [row('grouped', { groupId: fast.id })] })).tags as [Tag]
    expect(await listGroups(t.db)).toEqual([{ ...fast, tags: 1 }])
    expect(await failed(removeGroup(t.db, fast.id))).toMatchObject({ message: 'Tags belong to it' })
    expect(await failed(edit({ change: [{ id: g.id, groupId: newId() }] }))).toMatchObject({ fields: { groupId: 'There is no such sampling group' } })
    await edit({ change: [{ id: g.id, groupId: null }] })
    await removeGroup(t.db, fast.id)
    expect(await failed(changeGroup(t.db, fast.id, { name: 'x', sampleMs: 100 }))).toMatchObject({ status: 404 })
    const made = await addPattern(t.db, { name: 'meter', parameters: ['folder'], rows: [{ name: '{folder}/power' }] })
    expect(await failed(addPattern(t.db, { name: 'meter', parameters: [], rows: [{ name: 'x' }] }))).toMatchObject({ code: 'name.taken' })
    expect(await listPatterns(t.db)).toEqual([made])
    await removePattern(t.db, made.id)
  })
})

describe('in the engine', () => {
  let t: Fresh
  let engine: Engine
  const start = async () => {
    engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('tags') })
    await engine.start()
  }
  const now = (tag: Tag) => ({ value: engine.table.value[tag.handle] ?? null, status: engine.table.status[tag.handle]! })
  const becomes = (tag: Tag, value: unknown, status: number) =>
    until(
      () => now(tag).value === value && now(tag).status === status,
      `${tag.name} is ${String(value)}, ${status}; it is ${JSON.stringify(now(tag))}`,
    )
  beforeAll(async () => {
    t = await freshDatabase()
  })
  afterAll(async () => {
    await engine.stop()
    await t.drop()
  })

  it('raw values come scaled, clamped ones say so, and another scaling counts at once', async () => {
    await start()
    const { id } = await simulated(t, 'raw')
    const scaling = { rawLow: 4000, rawHigh: 20_000, low: 0, high: 100, clamp: true }
    const [inside, beyond, plain] = (await addTags(t.db, [
      { name: 'inside', sourceId: id, address: 'fixed values=12000', dataType: 'number', scaling },
      { name: 'beyond', sourceId: id, address: 'fixed values=30000', dataType: 'number', scaling },
      { name: 'plain', sourceId: id, address: 'fixed values=12000', dataType: 'number' },
    ])) as [Tag, Tag, Tag]
    await becomes(inside, 50, Status.good)
    await becomes(beyond, 100, Status.engineeringUnitsExceeded)
    await becomes(plain, 12_000, Status.good)
    expect(engine.table.notes.get(beyond.handle)!.text).toContain('Raw 30000 is beyond 4000 to 20000')
    // The signals never change: what is seen now comes from what was read before.
    await changeTag(t.db, beyond.id, { scaling: { ...scaling, clamp: false } })
    await becomes(beyond, 162.5, Status.good)
    await changeTag(t.db, inside.id, { scaling: null })
    await becomes(inside, 12_000, Status.good)
    await changeTag(t.db, plain.id, { scaling })
    await becomes(plain, 50, Status.good)
  })

  it('an initial value stands until the device speaks, also while its source cannot be reached', async () => {
    const { id } = await simulated(t, 'late', { enabled: false })
    const away = await addSource(t.db, t.vault, {
      name: 'away',
      kind: 'http',
      enabled: true,
      settings: { url: 'http://127.0.0.1:9/', headers: '', authorityId: null, login: 'none', user: '', timeoutMs: 500, rateMs: 500, retryMs: 500 },
    } as never)
    const [late, never, none] = (await addTags(t.db, [
      { name: 'late', sourceId: id, address: 'fixed values=9', dataType: 'number', initial: 3.5 },
      { name: 'never', sourceId: away.id, address: '/x', dataType: 'text', initial: 'idle' },
      { name: 'none', sourceId: away.id, address: '/y', dataType: 'number' },
    ])) as [Tag, Tag, Tag]
    await becomes(late, 3.5, Status.initial)
    await becomes(never, 'idle', Status.initial)
    await until(() => engine.sources.get(away.id)?.present().state === 'trouble', 'the source is in trouble')
    expect(now(never)).toEqual({ value: 'idle', status: Status.initial })
    expect(now(none).value).toBeNull()
    const { version: _v, id: _i, hasPassword: _h, ...draft } = (await getSource(t.db, id)) as never as Record<string, unknown>
    await changeSource(t.db, t.vault, id, { ...draft, enabled: true } as never)
    await becomes(late, 9, Status.good)
  })

  it('held values are there again after the engine started anew; whether the machine did too decides as it is set', async () => {
    const { id } = await simulated(t, 'held')
    const [engineOnly, always, nothing] = (await addTags(t.db, [
      { name: 'while the machine runs', sourceId: id, address: 'fixed values=11', dataType: 'number', hold: 'engine', initial: 1 },
      { name: 'always', sourceId: id, address: 'fixed values=22', dataType: 'number', hold: 'machine' },
      { name: 'not', sourceId: id, address: 'fixed values=33', dataType: 'number' },
    ])) as [Tag, Tag, Tag]
    await becomes(always, 22, Status.good)
    await becomes(engineOnly, 11, Status.good)
    await engine.stop()
    const source = await getSource(t.db, id)
    await sql`update source set enabled = false, version = version + 1 where id = ${source.id}`.execute(t.db)
    await start()
    expect(now(engineOnly)).toEqual({ value: 11, status: Status.lastUsable })
    expect(now(always)).toEqual({ value: 22, status: Status.lastUsable })
    expect(now(nothing).value).toBeNull()
    expect(engine.table.time[always.handle]).toBeGreaterThan(Date.now() - 60_000)
    await engine.stop()
    // As after the machine was started anew: what is held is of another start.
    await sql`update held_value set boot = 'before'`.execute(t.db)
    await start()
    expect(now(engineOnly)).toEqual({ value: 1, status: Status.initial })
    expect(now(always)).toEqual({ value: 22, status: Status.lastUsable })
    expect(bootOf()).toBe(bootOf())
  })

  it('a tag is read at the rate of its group, and at once at another when that changes', async () => {
    const slow = await addGroup(t.db, { name: 'slow', sampleMs: 3_600_000 })
    const { id } = await simulated(t, 'grouped')
    const [own, grouped] = (await addTags(t.db, [
      { name: 'at the rate of its source', sourceId: id, address: 'noise low=0 high=1', dataType: 'number' },
      { name: 'at the rate of its group', sourceId: id, address: 'noise low=0 high=1', dataType: 'number', groupId: slow.id },
    ])) as [Tag, Tag]
    const counts = new Map<number, number>()
    const stop = engine.table.onBatch((handles) => {
      for (const h of handles) counts.set(h, (counts.get(h) ?? 0) + 1)
    })
    await until(() => (counts.get(own.handle) ?? 0) >= 10, 'ten changes at 100 ms')
    expect(counts.get(grouped.handle) ?? 0).toBeLessThanOrEqual(2)
    await changeGroup(t.db, slow.id, { name: 'slow', sampleMs: 100 })
    await until(() => (counts.get(grouped.handle) ?? 0) >= 5, 'changes at the new rate')
    stop()
  })
})

it('an older database: percent deadbands lend their range to the tag, and lose nothing else', async () => {
  const t = await freshDatabase(undefined, '0004-sources')
  const source = newId()
  await sql`insert into source (id, name, kind, settings, enabled) values (${source}, 's', 'simulated', '{}', false)`.execute(t.db)
  for (const [i, deadband, range] of [
    [1, { kind: 'percent', size: 2, low: 0, high: 1300 }, null],
    [2, { kind: 'percent', size: 2, low: 0, high: 1300 }, { low: 5, high: 6 }],
    [3, { kind: 'absolute', size: 0.5 }, null],
    [4, null, null],
  ] as const)
    await sql`insert into tag (id, name, source_id, address, data_type, unit, description, deadband, range)
      values (${newId()}, ${`t${i}`}, ${source}, 'noise low=0 high=1', 'number', '', '', ${JSON.stringify(deadband)}::jsonb, ${JSON.stringify(range)}::jsonb)`.execute(
      t.db,
    )
  await sql`update tag set deadband = null where deadband = 'null'; update tag set range = null where range = 'null'`.execute(t.db)
  await migrate(t.db)
  expect((await listTags(t.db)).map((x) => [x.deadband, x.range])).toEqual([
    [
      { kind: 'percent', size: 2 },
      { low: 0, high: 1300 },
    ],
    [
      { kind: 'percent', size: 2 },
      { low: 5, high: 6 },
    ],
    [{ kind: 'absolute', size: 0.5 }, null],
    [null, null],
  ])
  await t.drop()
})
