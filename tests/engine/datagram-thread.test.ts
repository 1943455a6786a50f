import { fork } from 'node:child_process'
import { createSocket, type Socket } from 'node:dgram'
import { writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterEach, describe, expect, it } from 'vitest'
import { DatagramSettings } from '~/contract/destinations/datagram'
import type { Verdict } from '~/contract/live'
import { flatJsonSettings } from '~/contract/shape'
import { digest } from '~/core/delivery/digest'
import type { Envelope } from '~/core/delivery/envelope'
import { packProperties, plainJson } from '~/core/delivery/properties'
import { chance } from '~/core/value/chance'
import { Engine } from '~/engine/engine'
import { RelayFaults } from '~/standins/relay/faults'
import { Relay } from '~/standins/relay/relay'
import { listAsides } from '~/store/aside'
import { type Db, openDatabase } from '~/store/database'
import { addDestination, changeDestination } from '~/store/destination'
import { freeze } from '~/store/freeze'
import { goLive } from '~/store/going-live'
import { addPublication } from '~/store/publication-edit'
import { FlowProcess, flowingProgram, loses, ownServer } from './flowing'
import { allJudged, flowInto } from './lines'
import { zonesPlant } from './plant'
import { bareDelivery } from './random-faults'
import { pause } from './scene'
import { folder, freshDatabase, readLedger, until } from './support'

// A whole engine and datagrams, straight to a group and over a relay: the ledger against what was heard, and what the relay did.

const TOTAL = 20_000
const LOCAL = '127.0.0.1'
const GROUP = '239.192.77.7'

let parts: { stop(): Promise<void> | void }[] = []
afterEach(async () => {
  for (const p of parts.reverse()) await p.stop()
  parts = []
})

/** A socket of this test's own, on a port of UDP that nobody else has. */
async function udp(): Promise<{ socket: Socket; port: number }> {
  const socket = createSocket({ type: 'udp4', recvBufferSize: 4 << 20 })
  await new Promise<void>((done) => socket.bind({ address: LOCAL, port: 0 }, done))
  return { socket, port: socket.address().port }
}

async function freeUdp(): Promise<number> {
  const { socket, port } = await udp()
  socket.close()
  return port
}

/** Hears what goes to a group, as a receiver would, until this test ends. */
async function receiver(port: number): Promise<{ heard: Buffer[] }> {
  const made = await hearing(port)
  parts.push(made)
  return made
}

async function hearing(port: number): Promise<{ heard: Buffer[]; stop(): void }> {
  const socket = createSocket({ type: 'udp4', reuseAddr: true, recvBufferSize: 4 << 20 })
  const heard: Buffer[] = []
  socket.on('message', (octets) => heard.push(octets))
  await new Promise<void>((done) => socket.bind({ address: GROUP, port }, done))
  socket.addMembership(GROUP, LOCAL)
  return { heard, stop: () => void socket.close() }
}

interface Made {
  seq: number
  digest: number
  place: string
}

async function begin(place: string, part: Partial<DatagramSettings> = {}) {
  const t = await freshDatabase()
  parts.push({ stop: () => t.drop() })
  const settings = DatagramSettings.parse({ from: LOCAL, retryMs: 200, witness: true, lateS: 8, perSecond: 20_000, outboxMb: 500, ...part })
  const { id } = await addDestination(t.db, { name: 'Hall', kind: 'datagram', enabled: true, settings })
  const delivery = await bareDelivery(t, id, place)
  const started = async () => {
    const engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('datagram') })
    await engine.start()
    return engine
  }
  let engine = await started()
  parts.push({ stop: () => engine.stop() })
  const destination = () => engine.destinations.get(id)!
  const up = () =>
    until(() => destination()?.present().state === 'running' && (!settings.witness || destination().witness?.view()), 'both to be up', 60)
  await up()
  const made: Made[] = []

  function offer(n: number, o: { words?: string; to?: string } = {}): void {
    const account = engine.ledger.account(delivery)
    const envelopes: Envelope[] = []
    for (let i = 0; i < n; i++) {
      const now = Date.now()
      const { seq, turn } = account.next(now)
      // Changed in one octet it is no other one of them.
      const payload = `{"n":${seq},"check":"${digest(Buffer.from(`${seq}`)).toString(36)}","of":"${t.url.slice(-8)}"${o.words ?? ''}}`
      const topic = o.to ?? place
      made.push({ seq, digest: digest(Buffer.from(payload)), place: topic })
      const times = { deviceAt: now, producedAt: now, madeMono: performance.now() }
      envelopes.push({ delivery, seq, turn, topic, payload, properties: packProperties(plainJson), assurance: 'sent', ...times })
    }
    destination().outbox.offer(envelopes)
  }
  // How slow this machine is says nothing of datagrams.
  const inTime = (v: Verdict | 'waiting' | null) => (v === 'late' ? 'confirmed' : v)
  const verdicts = () => new Map(made.map((m) => [m.seq, inTime(engine.ledger.account(delivery).verdict(m.seq))]))
  return {
    ...{ t, id, settings, delivery, made, offer, up, destination, verdicts },
    flow: (total: number, during?: (round: number) => void | Promise<void>) =>
      flowInto({ count: 1, offer: (_line, n) => offer(n), waiting: () => destination()?.outbox.waiting ?? null }, total, during),
    settled: (seconds = 300) => allJudged(() => engine, [delivery], seconds),
    counts() {
      const { late, ...c } = engine.ledger.account(delivery).counts()
      return { ...c, confirmed: c.confirmed + late }
    },
    engine: () => engine,
    events: (code: string) => t.db.selectFrom('event').selectAll().where('code', '=', code).execute(),
    async again() {
      await engine.stop()
      engine = await started()
    },
  }
}

async function relayed(part: Partial<DatagramSettings> = { perSecond: 4000 }) {
  const groupPort = await freeUdp()
  const relay = await Relay.start({ port: 0, group: GROUP, groupPort })
  parts.push(relay)
  const place = `${LOCAL}:${relay.port}`
  return { relay, ...(await begin(place, { relays: `${place} > ${GROUP}:${groupPort}`, ...part })) }
}

/** What became of each message by what the relay did: how many copies went on, and whether one that was made later went before it. */
function truth(relay: Relay, made: readonly Made[]): Map<number, Verdict> {
  const bySum = new Map(made.map((m) => [m.digest, m.seq]))
  const order: number[] = []
  let held: number[] = []
  for (const { octets, fate, reordered } of relay.passed) {
    const seq = bySum.get(digest(octets))
    const going = seq === undefined || fate === 'dropped' || fate === 'altered' ? [] : fate === 'doubled' ? [seq, seq] : [seq]
    if (!reordered) order.push(...going)
    order.push(...held)
    held = reordered ? going : []
  }
  const out = new Map<number, Verdict>(made.map((m) => [m.seq, 'missing']))
  let newest = 0
  for (const seq of order) {
    const before = out.get(seq)!
    out.set(seq, before !== 'missing' ? 'doubled' : seq < newest ? 'disordered' : 'confirmed')
    newest = Math.max(newest, seq)
  }
  return out
}

const wrongOf = (is: ReadonlyMap<number, Verdict | 'waiting' | null>, should: ReadonlyMap<number, Verdict>) =>
  [...should].flatMap(([seq, one]) => (is.get(seq) === one ? [] : [{ seq, is: is.get(seq), should: one }]))
const faults = (part: Partial<RelayFaults>) => RelayFaults.parse(part)

describe('20,000 datagrams', () => {
  it('to a group: each is heard, once, by who joined and by the witness, and none is called acknowledged', { timeout: 600_000 }, async () => {
    const port = await freeUdp()
    const { heard } = await receiver(port)
    const s = await begin(`${GROUP}:${port}`, { perSecond: 5000 })
    await s.flow(TOTAL)
    await s.settled()
    const { confirmed, unknown } = s.counts()
    expect(s.counts()).toMatchObject({ produced: TOTAL, acknowledged: 0, sent: TOTAL, missing: 0, doubled: 0, altered: 0, disordered: 0 })
    // A machine that is busy with other things throws some away before anybody reads them: then that is what is said.
    expect(confirmed + unknown).toBe(TOTAL)
    expect(unknown).toBeLessThan(TOTAL / 4)
    const numbers = heard.map((h) => JSON.parse(h.toString()).n as number)
    expect(numbers).toEqual([...new Set(numbers)].sort((a, b) => a - b))
    if (unknown === 0) expect(numbers.length).toBeGreaterThan(TOTAL * 0.75)
    else expect((await s.events('datagram.overrun')).length).toBeGreaterThan(0)
  })

  it('that a relay drops, doubles, alters or hands on out of order are found, each one', { timeout: 600_000 }, async () => {
    const s = await relayed()
    s.relay.setFaults(faults({ drop: 0.03, double: 0.03, alter: 0.03, reorder: 0.03, seed: 5 }))
    await s.flow(TOTAL)
    await s.settled()
    const altered = s.relay.passed.filter((p) => p.fate === 'altered').length
    expect(s.relay.passed).toHaveLength(TOTAL)
    // What it holds back at the end goes on with the next one, which does not come.
    const should = truth(s.relay, s.made)
    expect(wrongOf(s.verdicts(), should).filter((w) => w.seq !== s.made.at(-1)!.seq)).toEqual([])
    // What was altered is none of what was sent, and nothing tells of which it is.
    expect(s.counts().foreign).toBe(altered)
    for (const v of ['missing', 'doubled', 'disordered', 'confirmed'] as const) expect(s.counts()[v]).toBeGreaterThan(100)
  })

  it('to a machine where at times nobody listens: what it refuses goes again, and what it lost is missing, as the relay has it', {
    timeout: 600_000,
  }, async () => {
    const s = await relayed()
    await s.flow(TOTAL, async (round) => {
      if (round % 80 === 20) s.relay.cut(0.3)
      if (round % 10 === 0) await pause(20)
    })
    await s.settled()
    expect(wrongOf(s.verdicts(), truth(s.relay, s.made))).toEqual([])
    // What lay unread in the socket that was closed is gone, and no more.
    expect(s.counts().missing).toBeLessThan(TOTAL / 10)
    expect(s.counts().confirmed).toBeGreaterThan(TOTAL * 0.9)
  })

  it('through an engine that is stopped and started: nothing is missing, what nobody heard is unknown', { timeout: 600_000 }, async () => {
    const port = await freeUdp()
    const { heard } = await receiver(port)
    const s = await begin(`${GROUP}:${port}`)
    for (let i = 0; i < 4; i++) {
      await s.flow(TOTAL / 8)
      await s.again()
      await s.up()
      await s.flow(TOTAL / 8)
    }
    await s.settled()
    const copies = new Map<number, number>()
    for (const h of heard) {
      const { n } = JSON.parse(h.toString()) as { n: number }
      copies.set(n, (copies.get(n) ?? 0) + 1)
    }
    const is = s.verdicts()
    const lies = s.made.filter(({ seq }) => {
      const verdict = is.get(seq)
      return verdict === 'confirmed' || verdict === 'doubled' ? !copies.has(seq) : verdict !== 'unknown'
    })
    expect(lies).toEqual([])
    expect(s.made.filter((m) => !copies.has(m.seq))).toEqual([])
    expect(s.counts().confirmed).toBeGreaterThan(TOTAL * 0.9)
  })
})

describe.concurrent('an engine in a process of its own', () => {
  /** One that sends to a group what its tags make, and somebody who hears. */
  async function flowing(server?: string) {
    const t = await freshDatabase(server)
    const port = await freeUdp()
    // Both tests run at once: what ends with one is not the other's.
    const { heard, stop } = await hearing(port)
    const settings = DatagramSettings.parse({ from: LOCAL, retryMs: 200, witness: true, lateS: 20, outboxMb: 500 })
    const { id: destinationId } = await addDestination(t.db, { name: 'Hall', kind: 'datagram', enabled: true, settings })
    const { handles, equipmentIds } = await zonesPlant(t.db, t.vault, 20)
    const address = { kind: 'datagram' as const, topic: `${GROUP}:${port}` }
    const { id } = await addPublication(t.db, {
      ...{ name: 'Zones', equipmentIds, trigger: { kind: 'change' }, shape: flatJsonSettings, address, steersOnly: false, destinationId },
    })
    await goLive(t.db, id, 'test', freeze)
    const { number } = await t.db.selectFrom('delivery').select('number').where('publication_id', '=', id).executeTakeFirstOrThrow()
    const engine = new FlowProcess({ program: await flowingProgram(), url: t.url, key: t.key, handles, perSecond: 200 })
    /** Every message has its verdict: none is missing, and no more arrived than were heard. */
    async function holds(db: Db = t.db) {
      engine.still()
      await pause(500)
      const counts = await until(
        async () => {
          const c = (await readLedger(db)).countsOf(number)
          return c && c.stored > 0 && c.waiting === 0 ? c : null
        },
        () => `every message to have its verdict: ${engine.output}`,
        300,
      )
      expect(counts).toMatchObject({ missing: 0, altered: 0, dropped: 0, rejected: 0, acknowledged: 0 })
      expect(counts.arrived + counts.unknown).toBe(counts.stored)
      expect(counts.arrived).toBeGreaterThan(counts.stored * 0.5)
      expect(heard.length).toBeGreaterThanOrEqual(counts.arrived + counts.doubled)
    }
    return {
      ...{ t, engine, holds },
      async end() {
        await engine.end()
        stop()
        if (!server) await t.drop()
      },
    }
  }

  it('is killed six times: nothing is missing, what nobody can know is unknown', { timeout: 900_000 }, async () => {
    const s = await flowing()
    const random = chance(21)
    try {
      for (let i = 0; i < 6; i++) {
        await s.engine.start()
        await pause(1500 + random() * 2000)
        await s.engine.kill()
      }
      await s.engine.start()
      await pause(1500)
      await s.holds()
    } finally {
      await s.end()
    }
  })

  it('loses its database three times, and stands still once: nothing is missing', { timeout: 900_000 }, async () => {
    const server = await ownServer()
    await server.start()
    const s = await flowing(server.url)
    await s.t.close()
    try {
      await s.engine.start()
      await loses(server, 3)
      const { goOn } = s.engine.freeze()
      await pause(5000)
      goOn()
      await pause(2000)
      const db = openDatabase(s.t.url, 2)
      await s.holds(db)
      await db.destroy()
    } finally {
      await s.end()
      await server.stop('SIGINT')
    }
  })
})

it('what this machine throws away before the witness reads it is unknown, and said', { timeout: 300_000 }, async () => {
  const port = await freeUdp()
  const s = await begin(`${GROUP}:${port}`, { perSecond: 20_000, window: 5000 })
  const program = join(folder('flood'), 'flood.mjs')
  writeFileSync(
    program,
    `import { createSocket } from 'node:dgram'
const s = createSocket('udp4')
s.bind({ address: '${LOCAL}', port: 0 }, () => {
  s.setMulticastInterface('${LOCAL}')
  process.on('message', async () => {
    for (;;) await new Promise((done) => s.send(Buffer.alloc(500), ${port}, '${GROUP}', done))
  })
  process.send('ready')
})`,
  )
  const child = fork(program)
  parts.push({ stop: () => void child.kill() })
  await new Promise<void>((done) => child.once('message', () => done()))
  s.offer(500)
  await s.settled()
  child.send('go')
  await until(
    async () => {
      s.offer(20)
      // Nobody reads meanwhile, as where this machine has other work.
      const end = performance.now() + 150
      while (performance.now() < end) {}
      return (await s.events('datagram.overrun')).length > 0
    },
    'it to be said',
    60,
  )
  child.kill()
  await s.settled()
  const { missing, confirmed, unknown, produced } = s.counts()
  expect({ missing, sum: confirmed + unknown }).toEqual({ missing: 0, sum: produced })
})

it.each([false, true])('to one machine that nobody else hears sent is the last word, witness or not (%s)', { timeout: 120_000 }, async (witness) => {
  const { socket, port } = await udp()
  const heard: string[] = []
  socket.on('message', (octets) => heard.push(octets.toString()))
  parts.push({ stop: () => void socket.close() })
  const s = await begin(`${LOCAL}:${port}`, { witness })
  s.offer(50)
  await until(() => s.counts().unknown === 50 || (witness && s.counts().sent === 50), 'all to be sent', 30)
  await s.settled()
  expect(s.counts()).toMatchObject({ acknowledged: 0, missing: 0, unknown: 50, confirmed: 0 })
  if (witness) expect(s.destination().witness!.present().reason).toContain('goes to one machine')
  await until(() => new Set(heard).size === 50, 'all to be read', 20)
})

it('what fits no datagram goes aside alone; what goes where nobody listens rests, and the others go on', { timeout: 120_000 }, async () => {
  const port = await freeUdp()
  const nobody = await freeUdp()
  const s = await begin(`${GROUP}:${port}`)
  s.offer(20)
  s.offer(1, { words: `,"x":"${'y'.repeat(2000)}"` })
  s.offer(1, { to: 'kiln/state' })
  s.offer(5, { to: `${LOCAL}:${nobody}` })
  s.offer(20)
  await until(() => s.counts().confirmed === 40, 'the others to go on', 30)
  const asides = await until(async () => {
    const all = await listAsides(s.t.db, s.id)
    return all.length === 2 ? all : null
  }, 'two to be aside')
  expect(asides.map((a) => a.code).sort()).toEqual(['datagram.place', 'datagram.size'])
  expect(s.counts().waiting).toBe(5)
  await until(() => s.destination().present().reason.includes('nobody listens there'), 'the reason', 20)
  // Somebody comes: all five are still there.
  const socket = createSocket('udp4')
  const heard: string[] = []
  socket.on('message', (octets) => heard.push(octets.toString()))
  await new Promise<void>((done) => socket.bind({ address: LOCAL, port: nobody }, done))
  parts.push({ stop: () => void socket.close() })
  await until(() => new Set(heard).size === 5, 'the five', 60)
  await s.settled()
  expect(s.counts()).toMatchObject({ rejected: 2, confirmed: 40, missing: 0 })
})

it('two publications in one group, repeated payloads and odd values keep their accounts', { timeout: 120_000 }, async () => {
  const port = await freeUdp()
  const { heard } = await receiver(port)
  const s = await begin(`${GROUP}:${port}`, { mostOctets: 65_507 })
  for (const words of [',"x":"\\u0000 \\u2028 😀 {}"', ',"__proto__":1', `,"x":"${'z'.repeat(60_000)}"`, ',"x":-0.0,"y":5e-324'])
    s.offer(1, { words })
  await s.settled()
  expect(s.counts()).toMatchObject({ confirmed: 4, missing: 0, foreign: 0 })
  // A stranger in the group is foreign, and disturbs nothing.
  const stranger = createSocket('udp4')
  await new Promise<void>((done) => stranger.bind({ address: LOCAL, port: 0 }, done))
  stranger.setMulticastInterface(LOCAL)
  for (const octets of [Buffer.alloc(0), Buffer.from('{"n":1}'), Buffer.alloc(1400, 255), heard[0]!])
    await new Promise((done) => stranger.send(octets, port, GROUP, done))
  stranger.close()
  await until(() => s.counts().foreign + s.counts().doubled >= 4, 'strangers to be counted', 20)
  expect(s.counts()).toMatchObject({ foreign: 3, doubled: 1, confirmed: 3 })
})

it('a change of its settings loses nothing: another pace, another interface, and a name that is none', { timeout: 120_000 }, async () => {
  const port = await freeUdp()
  const s = await begin(`${GROUP}:${port}`, { perSecond: 500 })
  const save = (part: Partial<DatagramSettings>) =>
    changeDestination(s.t.db, s.id, { name: 'Hall', kind: 'datagram', enabled: true, settings: { ...s.settings, ...part } })
  s.offer(1000)
  await pause(200)
  await save({ perSecond: 2000 })
  await s.up()
  await save({ from: 'eth-none' })
  await until(() => s.destination().present().state === 'trouble', 'to be told', 20)
  expect(s.destination().present().reason).toBe('There is no network interface eth-none here')
  s.offer(100)
  await save({ from: 'lo' })
  await until(() => s.destination().present().state === 'running' && s.destination().witness?.view(), 'to be up again', 30)
  await s.settled()
  const { confirmed, unknown, missing, waiting } = s.counts()
  expect({ missing, waiting, sum: confirmed + unknown }).toEqual({ missing: 0, waiting: 0, sum: 1100 })
})
