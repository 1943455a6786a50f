// What tags held is recorded and read back as it was; a publication reckoned over it sends what the real one sent.
import { createHash } from 'node:crypto'
import { sql } from 'kysely'
import { afterEach, beforeEach, describe, expect, it } from 'vitest'
import type { Step } from '~/contract/step'
import type { Trigger } from '~/contract/trigger'
import type { Moment } from '~/core/recording/block'
import { Status } from '~/core/value/quality'
import { HeldClock } from '~/engine/clock/held-clock'
import { LiveTable } from '~/engine/live/table'
import { deflatePacking } from '~/engine/outbox/packing'
import { reckon } from '~/engine/publications/reckon'
import { playback } from '~/engine/recording/playback'
import { Recorder } from '~/engine/recording/recorder'
import { scriptsHere } from '~/engine/scripts/scripts'
import { Gate } from '~/standins/gate'
import { type Db, openDatabase } from '~/store/database'
import { storeTrouble } from '~/store/delivery'
import { planOf } from '~/store/publication'
import { recordingSpan } from '~/store/recording'
import { scene } from './scene'
import { freePort, freshDatabase, heldStore, until } from './support'

const HOUR = 3_600_000

describe('the recorder', () => {
  let t: Awaited<ReturnType<typeof freshDatabase>>
  let clock: HeldClock
  let table: LiveTable
  let heard: Moment[]
  let events: string[]
  let recorder: Recorder
  const begin = (part: { bytes?: number; ageMs?: number; db?: Db; epoch?: number } = {}) => {
    recorder = new Recorder({
      ...{ db: part.db ?? t.db, clock, table, packing: deflatePacking, troubleOf: storeTrouble },
      limits: { bytes: part.bytes ?? 1e9, ageMs: part.ageMs ?? 24 * HOUR },
      epoch: () => part.epoch ?? 1,
      event: (_severity, code) => events.push(code),
    })
    recorder.start()
  }
  const rows = async () => (await sql<{ n: number }>`select count(*)::int as n from recording`.execute(t.db)).rows[0]!.n
  const set = (part: Record<number, Moment['values'][number]>, status = Status.good) => {
    const handles = Object.keys(part).map(Number)
    table.apply({ handles, values: Object.values(part), statuses: handles.map(() => status), times: handles.map(() => clock.wall() - 7) })
  }
  /** Lets time pass until what was gathered is written, and waits for that. */
  const written = async (wanted: () => Promise<boolean> | boolean) => {
    clock.pass(10_000)
    await until(async () => {
      // A try that failed waits on the held clock.
      clock.pass(50)
      return wanted()
    }, 'the recording to be written')
  }
  const read = async (wanted: Iterable<number>, from = 0, to = Number.MAX_SAFE_INTEGER) => {
    const p = await playback(t.db, deflatePacking, new Set(wanted), from, to)
    const all: Moment[] = []
    if (p) for await (const m of p.moments) all.push(m)
    return { from: p?.from, all, damaged: p?.damaged() }
  }

  beforeEach(async () => {
    t = await freshDatabase()
    await heldStore(t.db)
    clock = new HeldClock()
    table = new LiveTable()
    heard = []
    events = []
    table.onBatch((handles, came) =>
      heard.push({
        at: clock.wall(),
        came,
        handles: [...handles],
        values: handles.map((h) => table.value[h] ?? null),
        statuses: handles.map((h) => table.status[h]!),
        times: handles.map((h) => table.time[h]!),
      }),
    )
  })
  afterEach(async () => {
    await recorder.stop()
    await t.drop()
  })

  it('gives back every moment in its order, of all tags and of some, from the beginning and from the middle', async () => {
    set({ 1: 10, 2: 'standing' })
    heard = []
    begin()
    const first = clock.wall()
    for (let i = 0; i < 2000; i++) {
      clock.pass(700)
      if (i % 7 === 0) set({ 1: i, 3: i % 2 === 0 })
      else if (i % 11 === 0) table.mark([1, 2], i % 2 ? Status.communication : Status.good)
      else set({ 2: `order ${i}`, 4: i / 8 })
      // What is written must keep up with a clock that runs this fast.
      if (i % 100 === 0) await until(async () => (await rows()) > i / 20, 'it to keep up')
    }
    const last = clock.wall()
    await written(async () => ((await recordingSpan(t.db))?.to ?? 0) >= last)
    expect(clock.wall() - first).toBeGreaterThan(20 * 60_000)
    const all = await read([1, 2, 3, 4])
    expect(all.from).toBe(first)
    expect(all.all[0]).toMatchObject({ at: first, came: false, handles: [1, 2], values: [10, 'standing'] })
    const plain = (m: Moment) =>
      m.handles.map((h, i) => [m.at, m.came, h, m.values[i], m.statuses[i], m.times[i]]).sort((a, b) => Number(a[2]) - Number(b[2]))
    expect(all.all.slice(1).map(plain)).toEqual(heard.map(plain))
    // Of one tag, from somewhere in the middle: what it held then comes first.
    const middle = heard[1300]!.at + 1
    const some = await read([1], middle)
    const before = heard.filter((m) => m.at <= middle && m.handles.includes(1)).at(-1)!
    expect(some.from).toBe(middle)
    expect(some.all[0]).toMatchObject({ at: middle, handles: [1], values: [before.values[before.handles.indexOf(1)]] })
    expect(some.all.length - 1).toBe(heard.filter((m) => m.at > middle && m.handles.includes(1)).length)
    expect(some.all.every((m) => m.handles.every((h) => h === 1))).toBe(true)
    // And only up to some moment.
    const short = await read([1, 2, 3, 4], middle, middle + 60_000)
    expect(short.all.at(-1)!.at).toBeLessThanOrEqual(middle + 60_000)
    expect(short.all.length - 1).toBe(heard.filter((m) => m.at > middle && m.at <= middle + 60_000).length)
  })

  it('what 25,000 tags hold is known from one moment on, all of them', async () => {
    const handles = Array.from({ length: 25_000 }, (_, h) => h)
    table.apply({ handles, values: handles.map((h) => h / 4), statuses: handles.map(() => 0), times: handles.map((h) => h) })
    begin()
    await until(async () => (await rows()) === 3, 'all of it')
    const { all } = await read(handles)
    expect(all).toHaveLength(1)
    expect(all[0]!.handles).toHaveLength(25_000)
    expect([...all[0]!.handles.entries()].every(([i, h]) => all[0]!.values[i] === h / 4 && all[0]!.times[i] === h)).toBe(true)
  })

  it('keeps no more than it may, in octets and in time; the oldest goes first', async () => {
    begin({ bytes: 60_000, ageMs: HOUR })
    for (let i = 0; i < 120; i++) {
      set(Object.fromEntries(Array.from({ length: 200 }, (_, h) => [h, Math.sin(i * 31 + h)])))
      clock.pass(10_000)
      await until(async () => (await recordingSpan(t.db)) !== null, 'some of it')
    }
    const size = async () => (await recordingSpan(t.db))!.octets
    await until(async () => {
      clock.pass(60_000)
      return (await size()) <= 60_000
    }, 'it to be small again')
    expect(await size()).toBeGreaterThan(20_000)
    clock.pass(2 * HOUR)
    await until(async () => {
      clock.pass(60_000)
      return ((await recordingSpan(t.db))?.from ?? 0) > clock.wall() - HOUR - 11 * 60_000
    }, 'what is old to go')
  })

  it('nothing waits for a database that is away; what was pushed out of memory is told, and it goes on whole', async () => {
    const at = new URL(t.url)
    const port = await freePort()
    const gate = await Gate.open(port, Number(at.port))
    at.port = String(port)
    const db = openDatabase(at.href, 2, undefined, 1000)
    try {
      begin({ db })
      set({ 1: 1 })
      await written(async () => (await rows()) >= 2)
      gate.cut(600)
      const long = 'x'.repeat(200_000)
      for (let i = 0; i < 100; i++) {
        set({ 1: i, 2: `${long}${i}` })
        clock.pass(1000)
      }
      expect(events).toEqual([])
      gate.mend()
      await until(() => {
        clock.pass(500)
        return events.includes('recording.gap')
      }, 'it to go on')
      set({ 1: 'after' })
      const now = clock.wall()
      await written(async () => ((await recordingSpan(t.db))?.to ?? 0) > now)
      const { all } = await read([1], now)
      expect(all.at(-1)!.values).toEqual(['after'])
      expect(events).toEqual(['recording.gap'])
    } finally {
      await recorder.stop()
      await db.destroy()
      await gate.close()
    }
  })

  it('makes room at once where the disk is full, says so once, and goes on when there is room', async () => {
    begin()
    set({ 1: 1 })
    await written(async () => (await rows()) >= 2)
    const raises = `begin raise exception 'could not extend file: No space left on device' using errcode = '53100'; end`
    await sql.raw(`create function full_disk() returns trigger language plpgsql as $$ ${raises} $$`).execute(t.db)
    await sql.raw('create trigger full_disk before insert on recording for each row execute function full_disk()').execute(t.db)
    set({ 1: 2 })
    clock.pass(10_000)
    await until(async () => (await rows()) === 0, 'it to make room')
    for (let i = 0; i < 30; i++) {
      set({ 1: 3 + i })
      clock.pass(10_000)
      await until(() => events.length > 0, 'it to say so')
    }
    expect(events).toEqual(['recording.full-disk'])
    await sql`drop trigger full_disk on recording`.execute(t.db)
    await until(async () => {
      set({ 1: 'room' })
      clock.pass(10_000)
      return (await recordingSpan(t.db)) !== null
    }, 'it to go on')
    expect((await read([1])).all.at(-1)!.values).toEqual(['room'])
  })

  it('one block that is damaged is passed by, the others are read', async () => {
    begin()
    for (let i = 1; i <= 5; i++) {
      set({ 1: i })
      await written(async () => (await rows()) >= i + 1)
    }
    await sql`update recording set body = substring(body from 3) where id = (select min(id) + 2 from recording)`.execute(t.db)
    const { all, damaged } = await read([1])
    expect(damaged).toBe(1)
    expect(all.map((m) => m.values[0])).toEqual([1, 3, 4, 5])
  })

  it('what lies before a gap is not played back with what lies after it: an engine that stood still sent nothing in that time', async () => {
    begin()
    clock.pass(1)
    for (let i = 1; i <= 3; i++) {
      set({ 1: i })
      await written(async () => (await rows()) >= i + 1)
    }
    const first = await read([1])
    expect(first.all.map((m) => m.values[0])).toEqual([undefined, 1, 2, 3])
    await recorder.stop()
    clock.pass(HOUR)
    begin()
    const again = clock.wall()
    clock.pass(1)
    set({ 1: 'again' })
    await written(async () => (await rows()) >= 6)
    const after = await read([1])
    expect(after.from).toBeGreaterThanOrEqual(Math.floor(again))
    expect(after.all.map((m) => m.values[0])).toEqual([3, 'again'])
    // Of the time before it, all is there as it was.
    expect((await read([1], 0, again - HOUR / 2)).all.map((m) => m.values[0])).toEqual([undefined, 1, 2, 3])
  })

  it('who has no lease any more records nothing, and ends', async () => {
    begin({ epoch: 99 })
    set({ 1: 1 })
    clock.pass(30_000)
    await recorder.stop()
    expect(await rows()).toBe(0)
  })

  it('records nothing where it may keep nothing', async () => {
    begin({ bytes: 0 })
    set({ 1: 1 })
    clock.pass(700_000)
    await recorder.stop()
    expect(await rows()).toBe(0)
    expect((await read([1])).from).toBeUndefined()
  })
})

describe('a publication over what was recorded sends what the real one sent', () => {
  const hash = (payload: Uint8Array) => createHash('sha256').update(payload).digest('hex').slice(0, 16)
  const when: [string, Trigger, Step[]][] = [
    ['on change', { kind: 'change' }, []],
    ['on change beyond a deadband', { kind: 'change', deadband: { kind: 'absolute', size: 3 } }, []],
    ['each value that comes', { kind: 'event', of: 'value' }, []],
    ['every second', { kind: 'every', seconds: 1, aligned: true }, []],
    ['on a condition', { kind: 'when', condition: 'n > 10.0', on: 'while' }, []],
    [
      'with steps',
      { kind: 'change' },
      [
        { kind: 'keep', condition: 'n < 15.0', unknown: 'pass' },
        { kind: 'set', member: 'twice', expression: 'n * 2.0' },
      ],
    ],
  ] as [string, Trigger, Step[]][]
  it.each(when)('%s', async (_, trigger, steps) => {
    const s = await scene({ zones: 4, publication: { trigger, ...(steps.length > 0 && { steps }) } })
    try {
      const plan = (await planOf(s.t.db, s.publicationId, 1))!
      let n = 0
      const feed = setInterval(() => {
        n++
        const some = s.handles.filter((_h, i) => (n + i) % 3 !== 0)
        const now = Date.now()
        s.engine.table.apply({
          handles: some,
          values: some.map((h) => (n * (h + 3)) % 23),
          statuses: some.map(() => 0),
          times: some.map(() => now - 3),
        })
        if (n % 17 === 0) s.engine.table.mark(s.handles.slice(0, 2), n % 2 ? Status.communication : Status.good)
      }, 60)
      await until(() => n > 120, 'values')
      clearInterval(feed)
      await s.settled()
      const to = Date.now() + 1
      await s.engine.stop()
      const recorded = (await playback(s.t.db, deflatePacking, new Set(s.handles), 0, to))!
      const made: { at: number; hash: string }[] = []
      const reckoned = (await reckon({
        ...{ plan, playback: recorded, to, scripts: scriptsHere(), host: { name: '', version: '', startedAt: 0 }, workMs: 20_000 },
        made: (m) => made.push({ at: m.at, hash: hash(m.payload) }),
      }))!
      expect(reckoned.problems).toEqual([])
      const sent = s.b.broker.truth.arrivals.map((a) => a.hash)
      // By the clock the last beat may lie between the last value and the stop.
      if (trigger.kind === 'every') expect(Math.abs(made.length - sent.length)).toBeLessThanOrEqual(4)
      else expect(made.map((m) => m.hash).sort()).toEqual([...sent].sort())
      expect(reckoned.messages).toBe(made.length)
    } finally {
      await s.end()
    }
  })
})
