import { expect, it } from 'vitest'
import type { Failure } from '~/contract/failure'
import type { PlanRows } from '~/contract/rows'
import type { Trigger } from '~/contract/trigger'
import { Status } from '~/core/value/quality'
import { HeldClock } from '../clock/held-clock'
import { Documents } from '../sources/documents'
import { RowFeed, type RowFeedOptions } from './row-feed'

const SOURCE = 's'
const feed: PlanRows = {
  ...{ sourceId: SOURCE, source: 'Works orders', at: '', key: 'order', removed: true, nameHandle: 12, changeHandle: 13 },
  columns: [
    { name: 'order', dataType: 'text', handle: 10 },
    { name: 'n', dataType: 'number', handle: 11 },
  ],
}
const lost: Failure = { code: 'x', message: 'no answer', hint: '', where: 'source' }

/** A feed with what it said, as name, change, number and the status of that. */
function fed({
  trigger = { kind: 'change' } as Trigger,
  first,
  documents = new Documents(),
  kept = new Map<string, string>(),
  unsure,
}: {
  trigger?: Trigger
  first?: boolean
  documents?: Documents
  kept?: ReadonlyMap<string, string>
  unsure?: Pick<RowFeedOptions, 'isUnsure' | 'unsure'>
} = {}) {
  const clock = new HeldClock(0)
  const said: unknown[][] = []
  const troubles: (string | null)[] = []
  const may = { say: true }
  const rows = new RowFeed({
    ...{ clock, documents, plan: { feed, trigger, ...(first !== undefined && { pace: { first } }) } },
    isUnsure: (place) => unsure?.isUnsure(place) ?? true,
    unsure: (places) => unsure?.unsure(places) ?? Promise.resolve(),
    say: () => {
      const { value, status, time } = rows.values
      if (may.say) said.push([value[12], value[13], value[11], status[11], time[11]])
      return may.say
    },
    trouble: (f) => troubles.push(f === null ? null : f.message),
    guarded: (work) => work(),
  })
  rows.remember(kept)
  rows.begin()
  const take = () => said.splice(0).map(([name, change, n]) => `${name} ${change} ${n}`)
  const tell = (all: Record<string, number>, at = 1) =>
    documents.tell(
      SOURCE,
      Object.entries(all).map(([order, n]) => ({ order, n })),
      at,
    )
  return { rows, clock, said, troubles, may, documents, take, tell }
}

it('tells what has become other with each answer, and nothing where nothing has', () => {
  const f = fed()
  expect(f.rows.count).toBeNull()
  f.tell({ a: 1, b: 2 })
  expect(f.take()).toEqual(['a added 1', 'b added 2'])
  f.tell({ a: 1, b: 2 })
  expect(f.take()).toEqual([])
  f.tell({ b: 3, c: 4 })
  expect(f.take()).toEqual(['b changed 3', 'c added 4', 'a removed 1'])
  expect(f.rows.count).toBe(2)
})

it('takes what there is first for known where it was so chosen', () => {
  const f = fed({ first: false })
  f.tell({ a: 1 })
  expect(f.take()).toEqual([])
  f.tell({ a: 2 })
  expect(f.take()).toEqual(['a changed 2'])
})

it('knows over a start what was told: changes in between are told, once', () => {
  const before = fed()
  before.tell({ a: 1, b: 2, c: 3 })
  before.rows.stop()
  const after = fed({ kept: before.rows.memory(), first: false })
  after.tell({ a: 1, b: 9 })
  expect(after.take()).toEqual(['b changed 9', 'c removed 3'])
})

it('begins with the last answer that there was before it', () => {
  const documents = new Documents()
  documents.tell(SOURCE, [{ order: 'a', n: 1 }], 7)
  const f = fed({ documents })
  expect(f.said).toEqual([['a', 'added', 1, Status.good, 7]])
})

it('many rows go in turns, and what is asked for meanwhile first', () => {
  const f = fed()
  f.tell(Object.fromEntries(Array.from({ length: 450 }, (_, i) => [`r${i}`, i])))
  expect(f.said).toHaveLength(200)
  expect(f.rows.all()).toBe(450)
  f.clock.pass(1)
  const all = f.take()
  expect(all).toHaveLength(900)
  expect(all.filter((w) => w.includes(' present '))).toHaveLength(450)
  expect(all.slice(200, 650).every((w) => w.includes(' present '))).toBe(true)
  expect(new Set(all.filter((w) => w.includes(' added '))).size).toBe(450)
})

it('a row that changes again before its turn is told as it is then', () => {
  const f = fed()
  f.may.say = false
  f.tell({ a: 1 })
  f.tell({ a: 2, b: 1 })
  f.tell({ a: 2 })
  f.may.say = true
  f.clock.pass(5000)
  expect(f.take()).toEqual(['a added 2'])
})

it('what could not be said is said when it can, and is not known until then', () => {
  const f = fed()
  f.may.say = false
  f.tell({ a: 1 })
  expect([...f.rows.memory()]).toEqual([['row "a"', '[]']])
  f.clock.pass(900)
  expect(f.said).toEqual([])
  f.may.say = true
  f.clock.pass(200)
  expect(f.take()).toEqual(['a added 1'])
  f.clock.pass(10_000)
  expect(f.said).toEqual([])
})

it('an answer that cannot be read changes nothing, and says why until one can', () => {
  const f = fed()
  f.tell({ a: 1 })
  f.take()
  f.documents.tell(SOURCE, { order: 'x' }, 2)
  f.documents.tell(SOURCE, [{ n: 1 }], 3)
  f.documents.tell(SOURCE, [{ n: 1 }], 4)
  expect(f.troubles).toEqual(['Row 1 has no order, which tells it from others'])
  expect(f.rows.problem?.message).toContain('has no order')
  f.tell({ a: 1 })
  expect(f.troubles.at(-1)).toBeNull()
  expect(f.rows.problem).toBeNull()
})

it('a source that is lost removes nothing; asked for, its rows are uncertain', () => {
  const f = fed({ trigger: { kind: 'hand' } })
  f.tell({ a: 1 }, 5)
  f.documents.lost(SOURCE, lost)
  expect(f.rows.problem).toBe(lost)
  expect(f.rows.all()).toBe(1)
  expect(f.said).toEqual([['a', 'present', 1, Status.lastUsable, 5]])
  f.tell({ a: 1 }, 9)
  expect(f.rows.problem).toBeNull()
  expect(f.said).toHaveLength(1)
})

it('stopped, it says what was asked for and hears nothing more', () => {
  const f = fed()
  f.tell(Object.fromEntries(Array.from({ length: 300 }, (_, i) => [`r${i}`, i])))
  f.rows.all()
  f.rows.stop()
  const all = f.take()
  expect(all.filter((w) => w.includes(' present '))).toHaveLength(300)
  expect(all.filter((w) => w.includes(' added '))).toHaveLength(200)
  f.tell({ z: 1 })
  f.clock.pass(10_000)
  expect(f.said).toEqual([])
  // What it did not come to is told by whoever follows.
  const next = fed({ kept: f.rows.memory() })
  next.tell(Object.fromEntries(Array.from({ length: 300 }, (_, i) => [`r${i}`, i])))
  expect(next.take()).toHaveLength(100)
})

it('tells nothing of a row before it is kept that it is told; what cannot be kept waits', async () => {
  const written = new Set<string>()
  let away = true
  const asked: (readonly string[])[] = []
  const unsure = {
    isUnsure: (place: string) => written.has(place),
    unsure: async (places: readonly string[]) => {
      asked.push(places)
      if (away) throw new Error('the database is away')
      for (const place of places) written.add(place)
    },
  }
  const turn = () => new Promise((done) => setTimeout(done, 0))
  const f = fed({ unsure })
  f.tell({ a: 1, b: 1 })
  await turn()
  expect([f.said.length, asked.length]).toEqual([0, 1])
  // How it is by then is told when the database is back.
  f.tell({ a: 2, b: 1 })
  away = false
  f.clock.pass(1000)
  await turn()
  expect(f.take()).toEqual(['a added 2', 'b added 1'])
  expect(asked.at(-1)).toEqual(['row "a"', 'row "b"'])
  // What is kept so still is not written again.
  f.tell({ a: 3, b: 1 })
  expect(f.take()).toEqual(['a changed 3'])
  written.clear()
  f.tell({ b: 1 })
  await turn()
  expect([f.take(), asked.at(-1)]).toEqual([['a removed 3'], ['row "a"']])
})
