import { createHash } from 'node:crypto'
import { afterEach, describe, expect, it } from 'vitest'
import { HttpSettings } from '~/contract/destinations/http'
import type { Verdict } from '~/contract/live'
import { type Envelope, messageId } from '~/core/delivery/envelope'
import { packProperties, plainJson } from '~/core/delivery/properties'
import { chance } from '~/core/value/chance'
import { Engine } from '~/engine/engine'
import { ReceiverFaults } from '~/standins/receiver/faults'
import { type Arrival, Receiver } from '~/standins/receiver/receiver'
import { listAsides } from '~/store/aside'
import { addDestination, changeDestination } from '~/store/destination'
import { allJudged, flowInto } from './lines'
import { bareDelivery } from './random-faults'
import { pause } from './scene'
import { folder, freshDatabase, until } from './support'

// A whole engine and a web server that takes messages: the ledger against the server's own log, message by message.

const TOTAL = 20_000
const names = ['kiln', 'dryers']
/** Paths of each. */
const UNITS = 10

interface Made {
  seq: number
  path: string
  hash: string
}

let parts: { stop(): Promise<void> }[] = []
afterEach(async () => {
  for (const p of parts.reverse()) await p.stop()
  parts = []
})

const started = async (t: Awaited<ReturnType<typeof freshDatabase>>) => {
  const engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('http') })
  await engine.start()
  return engine
}
const hashOf = (payload: string) => createHash('sha256').update(payload).digest('hex').slice(0, 16)

async function begin(part: Partial<HttpSettings> = {}) {
  const t = await freshDatabase()
  parts.push({ stop: () => t.drop() })
  const receiver = await Receiver.start({ port: 0, most: 400_000 })
  parts.push(receiver)
  const base = `http://127.0.0.1:${receiver.port}/api`
  const settings = HttpSettings.parse({
    url: base,
    authorityId: null,
    credentialId: null,
    retryMs: 200,
    ackS: 5,
    witness: true,
    readUrl: `${base}/kept?after={cursor}`,
    readPlace: '/path',
    readPayload: '/payload',
    readEveryMs: 200,
    witnessCredentialId: null,
    lateS: 300,
    parallel: 16,
    outboxMb: 500,
    ...part,
  })
  const { id } = await addDestination(t.db, { name: 'Receiver', kind: 'http', enabled: true, settings })
  const deliveries = await Promise.all(names.map((name) => bareDelivery(t, id, `${name}/+`)))
  let engine = await started(t)
  parts.push({ stop: () => engine.stop() })
  const destination = () => engine.destinations.get(id)!
  const up = () => until(() => destination()?.present().state === 'running' && destination().witness?.view(), 'both to be up', 60)
  await up()
  const { code: installation } = await t.db.selectFrom('installation').select('code').executeTakeFirstOrThrow()
  const made = new Map<number, Made[]>(deliveries.map((d) => [d, []]))
  const random = chance(11)

  function offer(which: number, n: number, words = '', how = 'POST'): void {
    const delivery = deliveries[which]!
    const account = engine.ledger.account(delivery)
    const envelopes: Envelope[] = []
    for (let i = 0; i < n; i++) {
      const now = Date.now()
      const { seq, turn } = account.next(now)
      const path = `${names[which]}/${seq % UNITS}`
      const payload = `{"n":${seq},"value":${(random() * 1000).toFixed(3)}${words}}`
      made.get(delivery)!.push({ seq, path, hash: hashOf(payload) })
      const properties = packProperties({ ...plainJson, how, headers: [['line', 'kiln 1']] })
      const times = { deviceAt: now, producedAt: now, madeMono: performance.now() }
      envelopes.push({ delivery, seq, turn, topic: path, payload, properties, assurance: 'acknowledged', ...times })
    }
    destination().outbox.offer(envelopes)
  }

  const flow = (total: number, during?: (round: number) => void | Promise<void>) =>
    flowInto({ count: names.length, offer: (i, n) => offer(i, n), waiting: () => destination()?.outbox.waiting ?? null }, total, during)

  const settled = (seconds = 300) => allJudged(() => engine, deliveries, seconds)

  /** Whose verdict is not what the receiver's log says; `ends` says what those end as of which it knows nothing. */
  function wrong(ends: (m: Made) => readonly Verdict[] | null = () => null) {
    const byId = new Map<string, Arrival[]>()
    for (const a of receiver.arrivals) if (a.id !== null) byId.set(a.id, [...(byId.get(a.id) ?? []), a])
    return deliveries.flatMap((d) =>
      made.get(d)!.flatMap((m) => {
        const copies = byId.get(messageId(installation, d, m.seq)) ?? []
        const kept = copies.filter((c) => c.fate !== 'dropped').reduce((n, c) => n + (c.fate === 'doubled' ? 2 : 1), 0)
        const should =
          ends(m) ?? (copies.some((c) => c.fate === 'altered') ? ['altered'] : kept > 1 ? ['doubled'] : kept === 1 ? ['confirmed'] : ['missing'])
        const is = engine.ledger.account(d).verdict(m.seq)
        const lied = copies.some((c) => c.hash !== m.hash || c.path !== `/${m.path}`)
        return should.includes(is as Verdict) && !lied ? [] : [{ d, seq: m.seq, is, should, lied }]
      }),
    )
  }
  /** In each path messages were kept in their order. */
  const disordered = () => {
    const last = new Map<string, number>()
    return receiver.arrivals.filter((a) => {
      const n = Number(a.id?.split('.').at(-1))
      const before = last.get(a.path) ?? 0
      last.set(a.path, Math.max(n, before))
      return n < before
    }).length
  }
  return {
    ...{ t, receiver, settings, id, deliveries, made, flow, offer, settled, wrong, disordered, up, destination },
    counts: () => deliveries.map((d) => engine.ledger.account(d).counts()),
    engine: () => engine,
    /** Stops the engine as a signal would, and starts another one. */
    async again() {
      await engine.stop()
      engine = await started(t)
    },
  }
}
const faults = (part: Partial<ReceiverFaults>) => ReceiverFaults.parse(part)

describe('20,000 messages by HTTP', () => {
  it.each(['array', 'lines'] as const)('many a request, as %s: each confirmed, in order by path', { timeout: 900_000 }, async (batch) => {
    const s = await begin({ batch, lingerMs: 20 })
    await s.flow(TOTAL)
    await s.settled()
    expect(s.wrong().slice(0, 5)).toEqual([])
    for (const c of s.counts()) expect(c).toMatchObject({ missing: 0, doubled: 0, foreign: 0, unknown: 0, disordered: 0 })
    expect(s.disordered()).toBe(0)
    expect(s.receiver.requests).toBeLessThan(TOTAL / 4)
  })

  it('go through cuts, lost answers, failures after keeping, a full disk and a busy server: once each, nothing missing', {
    timeout: 1_200_000,
  }, async () => {
    const s = await begin({ batch: 'array', lingerMs: 20, ackS: 3 })
    await s.flow(TOTAL, async (round) => {
      if (round % 40 === 5) s.receiver.setFaults(faults({ loseAnswer: 0.2, failAfter: 0.2, seed: round + 1 }))
      if (round % 40 === 15) s.receiver.cut(0.3)
      if (round % 40 === 20) s.receiver.setFaults(faults({ full: true }))
      if (round % 40 === 25) s.receiver.setFaults(faults({ errorOn: 'kiln/3', status: 503, retryAfterS: 1 }))
      if (round % 40 === 30) s.receiver.setFaults(faults({ errorOn: 'dryers', status: 500 }))
      if (round % 40 === 35) s.receiver.setFaults(faults({}))
      if (round % 5 === 0) await pause(50)
    })
    s.receiver.setFaults(faults({}))
    await s.settled(500)
    expect(s.wrong().slice(0, 5)).toEqual([])
    for (const c of s.counts()) expect(c).toMatchObject({ missing: 0, doubled: 0, foreign: 0, unknown: 0, dropped: 0 })
    expect(s.disordered()).toBe(0)
  })

  it('that the receiver drops, doubles or alters are found, each one', { timeout: 1_200_000 }, async () => {
    const s = await begin({ batch: 'lines', lingerMs: 20, lateS: 5 })
    s.receiver.setFaults(faults({ drop: 0.01, double: 0.01, alter: 0.01, seed: 7 }))
    await s.flow(TOTAL)
    await s.settled(500)
    expect(
      s
        .wrong((m) => (m.seq < 0 ? [] : null))
        .filter((w) => !(w.should[0] === 'confirmed' && w.is === 'late'))
        .slice(0, 5),
    ).toEqual([])
    for (const c of s.counts()) for (const v of ['missing', 'doubled', 'altered'] as const) expect(c[v]).toBeGreaterThan(0)
  })

  it('survive an engine that is stopped and started with messages under way', { timeout: 1_200_000 }, async () => {
    const s = await begin()
    for (let i = 0; i < 3; i++) {
      s.receiver.setFaults(faults({ slowMs: 20 }))
      await s.flow(1000)
      await s.again()
      s.receiver.setFaults(faults({}))
      await s.up()
      await s.flow(TOTAL / 10)
    }
    await s.settled()
    expect(s.wrong().slice(0, 5)).toEqual([])
    for (const c of s.counts()) expect(c).toMatchObject({ missing: 0, doubled: 0, foreign: 0, unknown: 0 })
    expect(s.disordered()).toBe(0)
  })
})

it('one message a request has its method, headers and key, and is kept once over a lost answer', { timeout: 300_000 }, async () => {
  const s = await begin({ parallel: 1 })
  s.receiver.setFaults(faults({ loseAnswer: 0.5, seed: 3 }))
  for (let i = 0; i < 10; i++) s.offer(0, 5, '', 'PUT')
  await s.settled()
  expect(s.wrong()).toEqual([])
  expect(new Set(s.receiver.arrivals.map((a) => a.method))).toEqual(new Set(['PUT']))
  expect(s.receiver.arrivals).toHaveLength(50)
})

it('without ids messages are known by path and payload, whatever their headers', { timeout: 300_000 }, async () => {
  const s = await begin({ batch: 'array', lingerMs: 20, readId: '' })
  for (let i = 0; i < 20; i++) {
    s.offer(i % 2, 25, '', i % 3 === 0 ? 'PUT' : 'POST')
    await pause(20)
  }
  await s.settled()
  for (const c of s.counts()) expect(c).toMatchObject({ confirmed: 250, missing: 0, doubled: 0, foreign: 0, altered: 0 })
})

it('one message of many that is refused goes aside alone, with what the server said; by answers for each, or by trying apart', {
  timeout: 600_000,
}, async () => {
  for (const answersAt of ['/items', '']) {
    const s = await begin({ batch: 'array', lingerMs: 100, answersAt })
    s.receiver.setFaults(faults({ dislikes: 'slate', whole: answersAt === '' }))
    s.offer(0, 30)
    s.offer(0, 2, ',"kind":"slate"')
    s.offer(0, 30)
    await s.settled()
    const asides = await until(async () => {
      const all = await listAsides(s.t.db, s.id)
      return all.length === 2 ? all : null
    }, 'two to be aside')
    for (const a of asides) expect(a).toMatchObject({ code: 'http.content', message: expect.stringContaining('nobody likes slate') })
    expect(s.counts()[0]).toMatchObject({ rejected: 2, confirmed: 60, missing: 0, doubled: 0 })
    for (const p of parts.splice(0).reverse()) await p.stop()
  }
})

it('a server that comes back without what it kept is read from its beginning: nothing is called missing that is there', {
  timeout: 600_000,
}, async () => {
  const s = await begin({ lateS: 5 })
  s.offer(0, 200)
  await s.settled()
  s.receiver.forget()
  await s.up()
  s.offer(0, 200)
  await s.settled()
  expect(s.counts()[0]).toMatchObject({ missing: 0, doubled: 0, foreign: 0 })
  const later = s.made.get(s.deliveries[0]!)!.slice(200)
  const verdicts = later.map((m) => s.engine().ledger.account(s.deliveries[0]!).verdict(m.seq))
  expect(verdicts.filter((v) => v !== 'confirmed' && v !== 'late' && v !== 'unknown')).toEqual([])
  s.offer(0, 200)
  await s.settled()
  const [counts] = s.counts()
  expect(counts).toMatchObject({ missing: 0, doubled: 0, foreign: 0 })
  expect(counts!.confirmed).toBeGreaterThanOrEqual(400)
})

it('what was under way goes again whole though the destination was saved to send otherwise meanwhile', { timeout: 600_000 }, async () => {
  const s = await begin({ batch: 'array', lingerMs: 200, ackS: 2 })
  s.receiver.setFaults(faults({ slowMs: 20_000 }))
  s.offer(0, 50)
  await until(() => s.receiver.requests > 3, 'requests to be under way', 30)
  await changeDestination(s.t.db, s.id, { name: 'Receiver', kind: 'http', enabled: true, settings: { ...s.settings, batch: 'one' } })
  await pause(3000)
  s.receiver.setFaults(faults({}))
  await s.settled()
  const ids = new Set(s.receiver.arrivals.map((a) => a.id))
  expect(ids.size).toBe(50)
  expect(s.counts()[0]).toMatchObject({ missing: 0, dropped: 0 })
})

it('a server that ends kept connections all the time loses nothing, and no link', { timeout: 600_000 }, async () => {
  const s = await begin({ parallel: 2 })
  const up = s.destination().present().since
  for (let i = 0; i < 30; i++) {
    s.receiver.endIdle()
    s.offer(0, 10)
    await pause(60)
  }
  await s.settled()
  expect(s.wrong()).toEqual([])
  expect(s.destination().present().since).toBe(up)
})

it('a message on which the server hangs up is found among those that went with it, and goes aside alone', { timeout: 600_000 }, async () => {
  const s = await begin({ batch: 'array', lingerMs: 50 })
  s.receiver.setFaults(faults({ hangsUpOn: 'poison' }))
  s.offer(0, 30)
  s.offer(0, 1, ',"kind":"poison"')
  s.offer(0, 60)
  await s.settled(250)
  const asides = await until(async () => {
    const all = await listAsides(s.t.db, s.id)
    return all.length > 0 ? all : null
  }, 'one to be aside')
  expect(asides.map((a) => Buffer.from(a.payload, 'base64').toString())).toEqual([expect.stringContaining('poison')])
  expect(s.counts()[0]).toMatchObject({ rejected: 1, missing: 0, dropped: 0, unknown: 0 })
  expect(s.counts()[0]!.confirmed + s.counts()[0]!.doubled).toBe(90)
})

it('a path that takes nothing rests, and the others go on; the server that asks for time gets it', { timeout: 600_000 }, async () => {
  const s = await begin()
  s.receiver.setFaults(faults({ errorOn: 'kiln', status: 500 }))
  s.offer(0, 100)
  s.offer(1, 100)
  await until(() => s.counts()[1]!.confirmed === 100, 'the others to go on', 60)
  expect(s.destination().present()).toMatchObject({
    state: 'trouble',
    reason: expect.stringContaining('the server answers with 500 (500: as was asked for: 500); the rest goes on'),
  })
  s.receiver.setFaults(faults({ errorOn: 'kiln', status: 429, retryAfterS: 4 }))
  const before = s.receiver.requests
  await until(() => s.destination().present().reason.includes('429'), 'to be told to wait', 90)
  const asked = s.receiver.requests
  expect(asked).toBeGreaterThan(before)
  await pause(2500)
  expect(s.receiver.requests - asked).toBeLessThan(20)
  s.receiver.setFaults(faults({}))
  await s.settled()
  expect(s.wrong()).toEqual([])
  expect(s.disordered()).toBe(0)
})
