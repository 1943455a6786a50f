import { mkdirSync, readdirSync, rmSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterEach, beforeEach, describe, expect, it } from 'vitest'
import { FileSettings } from '~/contract/destinations/file'
import type { Verdict } from '~/contract/live'
import { type Envelope, messageId } from '~/core/delivery/envelope'
import { packProperties, plainJson } from '~/core/delivery/properties'
import { chance } from '~/core/value/chance'
import { Engine } from '~/engine/engine'
import { ObjectFaults } from '~/standins/objects/faults'
import { ObjectStoreStandin } from '~/standins/objects/objects'
import { listAsides } from '~/store/aside'
import { addCredential } from '~/store/credential'
import { addDestination, changeDestination } from '~/store/destination'
import { filesIn, type Row, rowsOf } from './files'
import { allJudged, flowInto } from './lines'
import { bareDelivery } from './random-faults'
import { pause } from './scene'
import { folder, freshDatabase, until } from './support'

// A whole engine and files, in a folder and in an object store: the ledger against what lies there, read by somebody else.

const TOTAL = 20_000
const names = ['kiln', 'dryers']
/** Paths of each. */
const UNITS = 10

interface Made {
  seq: number
  path: string
  n: number
  value: number
}

let parts: { stop(): Promise<void> | void }[] = []
let top = ''
beforeEach(() => {
  top = folder('files')
  process.env.EMBRIK_FILES_DIR = top
})
afterEach(async () => {
  for (const p of parts.reverse()) await p.stop()
  parts = []
})

const started = async (t: Awaited<ReturnType<typeof freshDatabase>>) => {
  const engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('file') })
  await engine.start()
  return engine
}

interface Place {
  settings: Partial<FileSettings>
  /** What lies there now. */
  files(): Map<string, Buffer>
}

const inFolder = (): Place => ({ settings: { store: 'folder', folder: 'lake/works' }, files: () => filesIn(join(top, 'lake/works')) })

async function inStore(t: Awaited<ReturnType<typeof freshDatabase>>): Promise<Place & { store: ObjectStoreStandin }> {
  const keys = {
    sender: { secret: 'clay-puts-1', write: ['lake/'], read: ['lake/'] },
    witness: { secret: 'clay-gets-1', write: [], read: ['lake/'] },
  }
  const store = await ObjectStoreStandin.start({ port: 0, bucket: 'works', keys })
  parts.push(store)
  const login = (user: keyof typeof keys) =>
    addCredential(t.db, t.vault, { name: user, kind: 'password', certificate: null, facts: null, user, secret: keys[user].secret })
  const [sends, reads] = [await login('sender'), await login('witness')]
  return {
    store,
    settings: {
      ...{ store: 'objects', folder: 'lake', url: `http://127.0.0.1:${store.port}`, bucket: 'works' },
      ...{ credentialId: sends.id, witnessCredentialId: reads.id },
    },
    files: () => new Map([...store.kept].map(([key, octets]) => [key.slice('lake/'.length), octets])),
  }
}

async function begin<P extends Place>(place: P | ((t: Awaited<ReturnType<typeof freshDatabase>>) => Promise<P>), part: Partial<FileSettings> = {}) {
  const t = await freshDatabase()
  parts.push({ stop: () => t.drop() })
  const there = typeof place === 'function' ? await place(t) : place
  const settings = FileSettings.parse({
    ...{ retryMs: 200, ackS: 5, witness: true, lateS: 3600, ageS: 0.5, filesMost: 500, lookEveryS: 5, outboxMb: 500 },
    ...there.settings,
    ...part,
  })
  const { id } = await addDestination(t.db, { name: 'Lake', kind: 'file', enabled: true, settings })
  const deliveries = await Promise.all(names.map((name) => bareDelivery(t, id, `/${name}/`)))
  let engine = await started(t)
  parts.push({ stop: () => engine.stop() })
  const destination = () => engine.destinations.get(id)!
  const up = () => until(() => destination()?.present().state === 'running' && destination().witness?.view(), 'both to be up', 60)
  await up()
  const { code: installation } = await t.db.selectFrom('installation').select('code').executeTakeFirstOrThrow()
  const made = new Map<number, Made[]>(deliveries.map((d) => [d, []]))
  const random = chance(11)

  function offer(which: number, n: number, o: { words?: string; how?: string; path?: string; rows?: number } = {}): void {
    const delivery = deliveries[which]!
    const account = engine.ledger.account(delivery)
    const envelopes: Envelope[] = []
    for (let i = 0; i < n; i++) {
      const now = Date.now()
      const { seq, turn } = account.next(now)
      const path = `${names[which]}/${o.path ?? `unit-${seq % UNITS}`}`
      const value = Math.round(random() * 1e6) / 1e3
      const one = `{"n":${seq},"value":${value}${o.words ?? ''}}`
      const payload = o.rows ? `[${Array.from({ length: o.rows }, () => one).join(',')}]` : one
      made.get(delivery)!.push({ seq, path, n: seq, value })
      const properties = packProperties({ ...plainJson, how: o.how ?? '' })
      const times = { deviceAt: now, producedAt: now, madeMono: performance.now() }
      envelopes.push({ delivery, seq, turn, topic: path, payload, properties, assurance: 'acknowledged', ...times })
    }
    destination().outbox.offer(envelopes)
  }

  const flow = (total: number, during?: (round: number) => void | Promise<void>) =>
    flowInto({ count: names.length, offer: (i, n) => offer(i, n), waiting: () => destination()?.outbox.waiting ?? null }, total, during)

  const settled = (seconds = 300) => allJudged(() => engine, deliveries, seconds)

  /** All rows that lie there, by their id. */
  function rows(): Map<string, { path: string; row: Row }[]> {
    const out = new Map<string, { path: string; row: Row }[]>()
    for (const [name, octets] of there.files())
      for (const row of rowsOf(name, octets)) {
        const id = String(row.embrik_id)
        const path = name.replace(/\.\d{8}T.*$/, '')
        out.set(id, [...(out.get(id) ?? []), { path, row }])
      }
    return out
  }

  /** Whose verdict is not what lies there. */
  function wrong() {
    const kept = rows()
    return deliveries.flatMap((d) =>
      made.get(d)!.flatMap((m) => {
        const copies = kept.get(messageId(installation, d, m.seq)) ?? []
        const same = copies.filter(({ path, row }) => path === m.path && Number(row.n) === m.n && Number(row.value) === m.value)
        const should: Verdict =
          copies.length > same.length ? 'altered' : copies.length > 1 ? 'doubled' : copies.length === 1 ? 'confirmed' : 'missing'
        const is = engine.ledger.account(d).verdict(m.seq)
        return should === is ? [] : [{ d, seq: m.seq, is, should }]
      }),
    )
  }
  /** In each path messages lie in their order, file after file. */
  function disordered(): number {
    const last = new Map<string, number>()
    const first = (name: string) => Number(/\.(\d+)-\d+\.[a-z]+[.a-z]*$/.exec(name)![1])
    let n = 0
    for (const [name, octets] of [...there.files()].sort(([a], [b]) => first(a) - first(b)))
      for (const row of rowsOf(name, octets)) {
        const of = name.replace(/\.\d{8}T.*$/, '')
        if (Number(row.n) < (last.get(of) ?? 0)) n++
        last.set(of, Math.max(Number(row.n), last.get(of) ?? 0))
      }
    return n
  }
  return {
    ...{ t, there, settings, id, deliveries, made, flow, offer, settled, rows, wrong, disordered, up, destination },
    counts: () => deliveries.map((d) => engine.ledger.account(d).counts()),
    engine: () => engine,
    /** Stops the engine as a signal would, and starts another one. */
    async again() {
      await engine.stop()
      engine = await started(t)
    },
  }
}
const faults = (part: Partial<ObjectFaults>) => ObjectFaults.parse(part)
const clean = { missing: 0, doubled: 0, foreign: 0, unknown: 0, altered: 0, disordered: 0, dropped: 0 }

describe('20,000 messages in files', () => {
  it.each([
    ['ndjson', 'none'],
    ['csv', 'gzip'],
    ['parquet', 'zstd'],
  ] as const)('of a folder, %s, %s: each in one, whole, in order', { timeout: 900_000 }, async (format, compression) => {
    const s = await begin(inFolder(), { format, compression })
    await s.flow(TOTAL)
    await s.settled()
    expect(
      s
        .wrong()
        .slice(0, 5)
        .map((w) => JSON.stringify(w)),
    ).toEqual([])
    for (const c of s.counts()) expect(c).toMatchObject(clean)
    expect(s.disordered()).toBe(0)
    expect(s.there.files().size).toBeGreaterThan(20)
    expect(s.there.files().size).toBeLessThan(TOTAL / 50)
  })

  it.each([
    ['parquet', 'gzip'],
    ['ndjson', 'zstd'],
  ] as const)(
    'of a store, %s, %s, through cuts, lost answers, failures, no room and a busy store: each in one',
    {
      timeout: 1_200_000,
    },
    async (format, compression) => {
      const s = await begin(inStore, { format, compression, ackS: 3 })
      const { store } = s.there
      await s.flow(TOTAL, async (round) => {
        if (round % 40 === 5) store.setFaults(faults({ loseAnswer: 0.3, failAfter: 0.2, seed: round + 1 }))
        if (round % 40 === 15) store.cut(0.3)
        if (round % 40 === 20) store.setFaults(faults({ full: true }))
        if (round % 40 === 25) store.setFaults(faults({ busy: true }))
        if (round % 40 === 30) store.setFaults(faults({ errorOn: 'kiln/unit-3', status: 403 }))
        if (round % 40 === 35) store.setFaults(faults({}))
        if (round % 5 === 0) await pause(50)
      })
      store.setFaults(faults({}))
      await s.settled(500)
      expect(
        s
          .wrong()
          .slice(0, 5)
          .map((w) => JSON.stringify(w)),
      ).toEqual([])
      for (const c of s.counts()) expect(c).toMatchObject(clean)
      expect(s.disordered()).toBe(0)
      expect(store.partsOpen).toBe(0)
    },
  )

  it.each([false, true])(
    'are in one file each, when answers are lost until each message is tried by itself (ids: %s)',
    { timeout: 600_000 },
    async (ids) => {
      const s = await begin(inStore, { filesMost: 50, ackS: 3, ...(!ids && { idColumn: '' }) })
      const { store } = s.there
      store.setFaults(faults({ loseAnswer: 1 }))
      await s.flow(2000)
      // What goes alone is in a file of its own.
      const alone = () => [...s.there.files().keys()].filter((name) => /\.(\d+)-\1\./.test(name)).length
      await until(() => alone() > 0, 'messages to be tried alone', 120)
      store.setFaults(faults({}))
      await s.settled()
      const lines = [...s.there.files()].flatMap(([name, octets]) => rowsOf(name, octets).map((row) => `${name.split('/')[0]} ${row.n}`))
      expect(lines.length - new Set(lines).size).toBe(0)
      expect(lines).toHaveLength(2000)
      for (const c of s.counts()) expect(c).toMatchObject({ missing: 0, doubled: 0, unknown: 0 })
    },
  )

  it('that a store drops, doubles or alters are found, each one', { timeout: 1_200_000 }, async () => {
    const s = await begin(inStore, { lateS: 5, filesMost: 100 })
    s.there.store.setFaults(faults({ drop: 0.05, double: 0.05, alter: 0.05, seed: 7 }))
    await s.flow(TOTAL)
    s.there.store.setFaults(faults({}))
    await s.settled(500)
    // Copies that nobody told of are found when all is looked through.
    await until(() => s.wrong().filter((w) => !(w.should === 'confirmed' && w.is === 'late')).length === 0, 'copies to be found', 60).catch(
      () => null,
    )
    expect(
      s
        .wrong()
        .filter((w) => !(w.should === 'confirmed' && w.is === 'late'))
        .slice(0, 5),
    ).toEqual([])
    for (const c of s.counts()) for (const v of ['missing', 'doubled', 'altered'] as const) expect(c[v]).toBeGreaterThan(0)
  })

  it.each(['folder', 'store'])(
    'survive an engine that is stopped and started with messages under way, in a %s: each in one file',
    { timeout: 1_200_000 },
    async (where) => {
      const s = await begin<Place>(where === 'folder' ? inFolder() : inStore)
      for (let i = 0; i < 3; i++) {
        await s.flow(1000)
        await s.again()
        await s.up()
        await s.flow(TOTAL / 10)
      }
      await s.settled()
      expect(
        s
          .wrong()
          .slice(0, 5)
          .map((w) => JSON.stringify(w)),
      ).toEqual([])
      for (const c of s.counts()) expect(c).toMatchObject(clean)
      expect(s.disordered()).toBe(0)
    },
  )
})

it('without ids messages are known by path and values', { timeout: 300_000 }, async () => {
  const s = await begin(inFolder(), { idColumn: '', format: 'csv' })
  for (let i = 0; i < 20; i++) {
    s.offer(i % 2, 25)
    await pause(20)
  }
  await s.settled()
  for (const c of s.counts()) expect(c).toMatchObject({ ...clean, confirmed: 250 })
})

it('a file is finished by number, by age, and when no more may wait; and at once when the destination is changed', { timeout: 300_000 }, async () => {
  const s = await begin(inFolder(), { ageS: 3600, lateS: 7200, filesMost: 50, window: 100 })
  s.offer(0, 50, { path: 'full' })
  await until(() => s.counts()[0]!.confirmed === 50, 'a full file', 30)
  s.offer(0, 40, { path: 'a' })
  s.offer(0, 40, { path: 'b' })
  await pause(1000)
  expect(s.there.files().size).toBe(1)
  // 100 may wait: the largest is finished.
  s.offer(1, 30, { path: 'c' })
  await until(() => s.counts()[0]!.confirmed >= 90, 'room to be made', 30)
  await changeDestination(s.t.db, s.id, { name: 'Lake', kind: 'file', enabled: true, settings: { ...s.settings, filesMost: 10 } })
  await until(() => s.counts()[0]!.waiting === 0 && s.counts()[1]!.waiting === 0, 'all to be finished', 30)
  expect(s.wrong()).toEqual([])
  for (const c of s.counts()) expect(c).toMatchObject(clean)
})

it('a message of several rows is one message, whose rows lie together', { timeout: 300_000 }, async () => {
  const s = await begin(inFolder(), { format: 'parquet' })
  for (let i = 0; i < 10; i++) s.offer(0, 20, { rows: 3 })
  await s.settled()
  expect(s.counts()[0]).toMatchObject({ ...clean, confirmed: 200 })
  const ids = [...s.rows().keys()]
  expect(ids).toHaveLength(600)
  expect(ids.every((id) => /\/[123]\/3$/.test(id))).toBe(true)
})

it('what cannot stand in a file goes aside alone, with the reason', { timeout: 300_000 }, async () => {
  const s = await begin(inFolder(), { format: 'parquet' })
  s.offer(0, 30, { how: 'value number, at time' })
  s.offer(0, 1, { how: 'value number, at time', words: ',"at":"yesterday"' })
  s.offer(0, 1, { words: ',"embrik_id":"mine"' })
  s.offer(0, 1, { path: '../../etc' })
  s.offer(0, 1, { path: '.hidden' })
  s.offer(0, 30, { how: 'value number, at time', words: ',"at":"2026-11-29T03:00:00.5Z"' })
  await s.settled()
  const asides = await until(async () => {
    const all = await listAsides(s.t.db, s.id)
    return all.length === 4 ? all : null
  }, 'four to be aside')
  expect(asides.map((a) => a.code).sort()).toEqual(['file.name', 'file.path', 'file.path', 'file.type'])
  expect(s.counts()[0]).toMatchObject({ rejected: 4, confirmed: 60, missing: 0, altered: 0 })
})

it('odd values are the same behind every format', { timeout: 300_000 }, async () => {
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
  for (const format of ['ndjson', 'csv', 'parquet'] as const) {
    const s = await begin(inFolder(), { format })
    const account = s.engine().ledger.account(s.deliveries[0]!)
    const envelopes = odd.map((payload, i): Envelope => {
      const now = Date.now()
      const { seq, turn } = account.next(now)
      const rest = {
        properties: packProperties(plainJson),
        assurance: 'acknowledged',
        deviceAt: now,
        producedAt: now,
        madeMono: performance.now(),
      } as const
      // All in one file, and each in one of its own.
      return { delivery: s.deliveries[0]!, seq, turn, topic: i % 2 === 0 ? 'kiln/all' : `kiln/odd-${i}`, payload, ...rest }
    })
    s.destination().outbox.offer(envelopes)
    await s.settled()
    expect(s.counts()[0], format).toMatchObject({ ...clean, confirmed: odd.length })
    // Somebody else reads them too.
    expect([...s.there.files()].flatMap(([name, octets]) => rowsOf(name, octets))).toHaveLength(odd.length)
    for (const p of parts.splice(0).reverse()) await p.stop()
    rmSync(join(top, 'lake'), { recursive: true, force: true })
  }
})

it('a folder that goes and comes back, a file in the way: told, waited for, nothing lost; no half file at any time', {
  timeout: 300_000,
}, async () => {
  const s = await begin(inFolder(), { ageS: 0.2 })
  writeFileSync(join(top, 'lake/works/blocked'), 'a file')
  s.offer(0, 20)
  await until(() => s.counts()[0]!.confirmed === 20, 'the first', 30)
  // Where a folder is needed lies a file: only that path waits.
  writeFileSync(join(top, 'lake/works/dryers'), 'a file')
  s.offer(1, 10)
  s.offer(0, 20)
  await until(() => s.counts()[0]!.confirmed === 40, 'the rest to go on', 30)
  expect(s.destination().present()).toMatchObject({ state: 'trouble', reason: expect.stringContaining('a file lies where a folder is needed') })
  rmSync(join(top, 'lake/works/dryers'))
  await until(() => s.counts()[1]!.confirmed === 10, 'the path to be free', 60)
  // The disk is away, then back.
  rmSync(join(top, 'lake'), { recursive: true })
  s.offer(0, 20)
  await until(() => s.destination().present().state !== 'running' || s.counts()[0]!.confirmed === 60, 'the loss to be seen', 30)
  await s.settled()
  expect(s.counts()[0]!.confirmed).toBe(60)
  for (const c of s.counts()) expect(c).toMatchObject({ missing: 0, doubled: 0, foreign: 0 })
  expect(readdirSync(join(top, 'lake/works/.unfinished'))).toEqual([])
})

it('large objects go in parts, which are not left behind; a store with checksums of its own is read again', { timeout: 300_000 }, async () => {
  const s = await begin(inStore, { partMb: 5, fileMb: 100, filesMost: 20_000, ageS: 5, window: 20_000 })
  const { store } = s.there
  store.setFaults(faults({ loseAnswer: 0.1, seed: 5 }))
  for (let i = 0; i < 240; i++) s.offer(0, 1, { path: 'large', words: `,"text":"${'clay '.repeat(12_000)}"` })
  await s.settled()
  store.setFaults(faults({ ownSums: true }))
  s.offer(0, 50, { path: 'small' })
  await s.settled()
  expect(s.wrong()).toEqual([])
  expect([...store.kept.values()].some((o) => o.length > 5_000_000)).toBe(true)
  await until(() => store.partsOpen === 0, 'no part to be left', 30)
})

it('what an earlier engine began and never finished is cleared away', { timeout: 300_000 }, async () => {
  const s = await begin(inFolder(), {})
  const tag = s.id.replaceAll('-', '').slice(-8)
  mkdirSync(join(top, 'lake/works/.unfinished'), { recursive: true })
  writeFileSync(join(top, `lake/works/.unfinished/${tag}-half`), '{"n":')
  writeFileSync(join(top, 'lake/works/.unfinished/somebody-else'), 'theirs')
  await s.again()
  await s.up()
  expect(readdirSync(join(top, 'lake/works/.unfinished'))).toEqual(['somebody-else'])
})
