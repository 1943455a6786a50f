import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { EquipmentEditInput, MemberInput } from '~/contract/equipment'
import { FailureError } from '~/contract/failure'
import { newId } from '~/contract/id'
import { Preview } from '~/contract/publication'
import { flatJsonSettings } from '~/contract/shape'
import type { Tag } from '~/contract/tag'
import { overMqtt } from '~/core/publication/over-mqtt'
import { Engine } from '~/engine/engine'
import { setUpOrders } from '~/standins/orders'
import { ordersLogin } from '~/standins/plant'
import { addClass, changeClass, classVersions, removeClass } from '~/store/class'
import { listEquipment } from '~/store/equipment'
import { editEquipment } from '~/store/equipment-edit'
import { listRecords } from '~/store/record'
import { addSource, sourceUse } from '~/store/source'
import { listTags, tagUse } from '~/store/tag'
import { addTags, changeTag, removeTags } from '~/store/tag-edit'
import { folder, freshDatabase, until } from './support'

type Fresh = Awaited<ReturnType<typeof freshDatabase>>
const failed = async (work: Promise<unknown>) => {
  const e = await work.then(
    () => null,
    (x: unknown) => x,
  )
  if (!(e instanceof FailureError)) throw new Error(`refused in no known way: ${String(e)}`)
  return { status: e.status, ...e.failure }
}
const value = (id: string, more: Partial<MemberInput> = {}): MemberInput => ({ id, key: id, label: id, ...more })

describe('an edit of many equipment', () => {
  let t: Fresh
  let tag: Tag
  let zone = ''
  const top = newId()
  const edit = (e: EquipmentEditInput) => editEquipment(t.db, e)
  const all = async () => (await listEquipment(t.db)).map(({ version: _v, ...e }) => e).sort((a, b) => (a.id < b.id ? -1 : 1))
  beforeAll(async () => {
    t = await freshDatabase()
    const source = await addSource(t.db, t.vault, {
      name: 'signals',
      kind: 'simulated',
      enabled: false,
      settings: { seed: 1, recording: '', rateMs: 100, retryMs: 1000 },
    })
    tag = (await addTags(t.db, [{ name: 'a', sourceId: source.id, address: 'sine', dataType: 'number' }]))[0]!
    zone = (await addClass(t.db, { name: 'Zone', members: [value('n'), value('m', { required: false })] })).id
    await edit({ add: [{ id: top, name: 'Varnmoor', parentId: null, level: 'enterprise' }] })
  })
  afterAll(() => t.drop())
  const under = (name: string, more: object = {}) => ({ name, parentId: top, level: 'work unit' as const, classId: zone, ...more })

  it('adds, changes and removes in one go, and its undo brings everything back, ids too', async () => {
    const first = await edit({
      add: [under('Zone 1'), under('Zone 2', { bindings: { n: { kind: 'tag', tagId: tag.id } }, facts: { maker: 'Orrin' } })],
    })
    const before = await all()
    const [one, two] = first.equipment
    const done = await edit({
      add: [under('Zone 3')],
      change: [{ id: one!.id, name: 'Zone 2', alias: 'Z2' }],
      remove: [{ id: two!.id, version: 1 }],
    })
    expect((await all()).map((e) => e.name).sort()).toEqual(['Varnmoor', 'Zone 2', 'Zone 3'])
    await edit(done.undo)
    expect(await all()).toEqual(before)
    // They have other versions by now: whoever undoes says which ones it knows.
    expect((await failed(edit(first.undo))).code).toBe('equipment.newer')
    await edit({ remove: first.undo.remove!.map(({ id }) => ({ id })) })
    expect((await all()).map((e) => e.name)).toEqual(['Varnmoor'])
  })

  it('says of each refused row what is wrong, and saves nothing', async () => {
    const before = await all()
    const refused = await failed(
      edit({
        add: [
          under('A'),
          under('A'),
          under('B', { level: 'enterprise' }),
          under('C', { parentId: newId() }),
          under('D', { classId: newId() }),
          under('E', { bindings: { x: { kind: 'constant', value: 1 }, n: { kind: 'tag', tagId: newId() } } }),
          under('F', { bindings: { n: { kind: 'expression', expression: { text: 'a +', inputs: { a: { kind: 'tag', tagId: tag.id } } } } } }),
          under('G', { bindings: { n: { kind: 'below' } } }),
        ],
        remove: [{ id: newId() }],
      }),
    )
    expect(refused.fields).toEqual({
      'add.1.name': 'Something beside it is called A already',
      'add.2.level': 'An enterprise cannot stand under Varnmoor, an enterprise',
      'add.3.parentId': 'There is no such equipment',
      'add.4.classId': 'There is no such class',
      'add.5.bindings.x': 'The class has no such member',
      'add.5.bindings.n': 'There is no such tag',
      'add.6.bindings.n': 'Something is missing at the end',
      'add.7.bindings.n': 'A value cannot be filled that way',
      'remove.0.id': 'There is no such equipment',
    })
    expect(await all()).toEqual(before)
  })

  it('refuses a circle through several equipment with its way, and what would pull away what others need', async () => {
    const [a, b] = (await edit({ add: [under('A'), under('B', { bindings: { n: { kind: 'tag', tagId: tag.id } } })] })).equipment
    await edit({ change: [{ id: a!.id, bindings: { n: { kind: 'member', equipmentId: b!.id, path: 'n' } } }] })
    const circle = await failed(
      edit({
        change: [
          {
            id: b!.id,
            bindings: { n: { kind: 'expression', expression: { text: 'x * 2', inputs: { x: { kind: 'member', equipmentId: a!.id, path: 'n' } } } } },
          },
        ],
      }),
    )
    expect(circle.fields).toEqual({ 'change.0.bindings.n': 'It would need itself: B n > A n > B n' })
    expect((await failed(edit({ remove: [{ id: b!.id }] }))).message).toBe('B fills a member of A')
    expect((await failed(edit({ remove: [{ id: top }] }))).message).toMatch(/stands under Varnmoor/)
    expect((await failed(edit({ change: [{ id: a!.id, name: 'A2', version: 1 }] }))).code).toBe('equipment.newer')
  })

  it('a tag inside an expression counts as used, by the name of its member', async () => {
    const [c] = (
      await edit({
        add: [under('C', { bindings: { m: { kind: 'expression', expression: { text: 'x', inputs: { x: { kind: 'tag', tagId: tag.id } } } } } })],
      })
    ).equipment
    expect((await tagUse(t.db, tag.id)).equipment).toContainEqual({ id: c!.id, name: 'C', member: 'm' })
    expect((await failed(removeTags(t.db, [tag.id]))).message).toMatch(/^a fills [nm] of/)
    // What a class no longer has holds nobody back.
    const cls = (await listEquipment(t.db)).find((e) => e.id === c!.id)!.classId!
    await edit({ remove: (await listEquipment(t.db)).filter((e) => e.classId === cls && e.id !== c!.id).map((e) => ({ id: e.id })) })
    await changeClass(t.db, cls, { name: 'Zone', members: [value('n')] }, 'Ines')
    expect((await tagUse(t.db, tag.id)).equipment).toEqual([])
    expect((await classVersions(t.db, cls)).map((v) => [v.version, v.by])).toEqual([
      [2, 'Ines'],
      [1, ''],
    ])
  })

  it('a class that others hold or extend stays', async () => {
    const holder = await addClass(t.db, { name: 'Holder', members: [value('part', { classId: zone })] })
    const wider = await addClass(t.db, { name: 'Wider', extendsId: holder.id, members: [] })
    const own = await addClass(t.db, { name: 'Alone', members: [] })
    expect((await failed(removeClass(t.db, holder.id))).message).toBe('Another class extends this one')
    await removeClass(t.db, wider.id)
    expect((await failed(changeClass(t.db, zone, { name: 'Zone', members: [value('back', { classId: holder.id })] }))).fields).toEqual({
      'members.0.classId': 'A class within itself never ends: Zone > Holder > Zone',
    })
    await removeClass(t.db, own.id)
  })
})

describe('values of equipment in the engine', () => {
  let t: Fresh
  let engine: Engine
  beforeAll(async () => {
    t = await freshDatabase()
    await setUpOrders(process.env.EMBRIK_TEST_DATABASE_URL!)
  })
  afterAll(async () => {
    await engine.stop()
    await t.drop()
  })

  it('a record reaches its member under a handle of its own, follows the row it is to come from, and a computed one follows its inputs', async () => {
    const at = new URL(process.env.EMBRIK_TEST_DATABASE_URL!)
    const orders = await addSource(t.db, t.vault, {
      name: 'orders',
      kind: 'sql',
      enabled: true,
      password: ordersLogin.password,
      settings: {
        host: at.hostname,
        port: Number(at.port),
        database: ordersLogin.database,
        tls: false,
        authorityId: null,
        user: ordersLogin.user,
        query: 'select line, product, quantity from works.current_order',
        keyColumn: 'line',
        timeoutMs: 1000,
        rateMs: 200,
        retryMs: 500,
      },
    })
    const signals = await addSource(t.db, t.vault, {
      name: 'signals',
      kind: 'simulated',
      enabled: true,
      settings: { seed: 1, recording: '', rateMs: 50, retryMs: 1000 },
    })
    await addTags(t.db, [{ name: 'level', sourceId: signals.id, address: 'ramp low=0 high=100 period=4', dataType: 'number', unit: 'bar' }])
    const cls = await addClass(t.db, {
      name: 'Chamber',
      members: [
        value('product', { dataType: 'text' }),
        value('quantity', { dataType: 'number' }),
        value('pressure', { unit: 'mbar' }),
        value('twice', { unit: 'mbar', calculation: { text: 'p * 2', inputs: { p: { kind: 'member', path: 'pressure' } } } }),
      ],
    })
    const record = (column: string) => ({ kind: 'record' as const, sourceId: orders.id, row: '{fact.line}', column })
    const [level] = await listTags(t.db)
    const made = await editEquipment(t.db, {
      add: [
        {
          name: 'Varnmoor',
          parentId: null,
          level: 'enterprise',
          classId: cls.id,
          facts: { line: 'kiln 1' },
          bindings: { product: record('product'), quantity: record('quantity'), pressure: { kind: 'tag', tagId: level!.id } },
        },
      ],
    })
    expect((await sourceUse(t.db, orders.id)).equipment).toEqual(['Varnmoor'])
    engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('engine') })
    await engine.start()
    const draft = overMqtt({
      name: 'p',
      equipmentIds: [made.equipment[0]!.id],
      trigger: { kind: 'change' },
      shape: flatJsonSettings,
      topic: '{name}',
      destinationId: newId(),
    })
    const now = async () => JSON.parse(Preview.parse(JSON.parse(await engine.preview(draft))).message?.payload ?? '{}') as Record<string, unknown>
    const seen = await until(async () => {
      const is = await now()
      return typeof is.product === 'string' && typeof is.quantity === 'number' && typeof is.twice === 'number' ? is : null
    }, 'values')
    expect(seen.twice).toBeCloseTo((seen.pressure as number) * 2, 6)
    expect(engine.model.bound).toBe(engine.model.members)

    // Another row, by a fact; and a name that changes, which nothing holds on to.
    await editEquipment(t.db, { change: [{ id: made.equipment[0]!.id, facts: { line: 'packing' } }] })
    await changeTag(t.db, level!.id, { name: 'another name' })
    await until(() => engine.model.recordTags.some((r) => r.address === '/packing/product'), 'the other row')
    await until(async () => typeof (await now()).product === 'string', 'its product')
    expect((await listRecords(t.db)).map((r) => `${r.row} ${r.column} ${r.dataType}`).sort()).toEqual([
      'kiln 1 product text',
      'kiln 1 quantity number',
      'packing product text',
      'packing quantity number',
    ])
    const handles = [...(await listRecords(t.db)).map((r) => r.handle), level!.handle]
    expect(new Set(handles).size).toBe(5)
    // A row that the query does not give is told as such.
    await editEquipment(t.db, { change: [{ id: made.equipment[0]!.id, facts: { line: 'nowhere' } }] })
    await until(async () => JSON.stringify((await now()).quality ?? {}).includes('address unknown'), 'its fault')
    expect((await now()).product).toBeNull()
  })
})
