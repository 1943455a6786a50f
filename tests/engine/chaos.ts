import { createSocket } from 'node:dgram'
import { DatagramSettings } from '~/contract/destinations/datagram'
import type { Counts } from '~/contract/live'
import type { Step } from '~/contract/step'
import type { Pace, Trigger } from '~/contract/trigger'
import { messageId } from '~/core/delivery/envelope'
import { RangeSet } from '~/core/delivery/ranges'
import { verdicts } from '~/core/delivery/verdict'
import { chance } from '~/core/value/chance'
import { BrokerFaults } from '~/standins/broker/faults'
import { ReceiverFaults } from '~/standins/receiver/faults'
import { type Db, openDatabase } from '~/store/database'
import { addDestination, changeDestination } from '~/store/destination'
import { freeze } from '~/store/freeze'
import { goLive } from '~/store/going-live'
import { installationCode } from '~/store/person'
import { getPublication } from '~/store/publication'
import { changePublication } from '~/store/publication-edit'
import { breakable, full } from './breakable'
import { FlowProcess, ownServer } from './flowing'
import { UNIT } from './hubs'
import { zonesPlant } from './plant'
import { layRoads, type Road } from './roads'
import { pause } from './scene'
import { brokerAt, freshDatabase, readLedger, until } from './support'

// More than twenty publications over every trigger and every road at once, while everything around them goes wrong by a seed.

/** What has not been seen for so long has its verdict then, s: what is lost for good is not waited for an hour. */
const LATE_S = 150
/** Changes of equipment a second: a good 2,000 messages on all roads. */
const PER_SECOND = 250

const script: Step = {
  kind: 'script',
  code: 'state.n = (state.n ?? 0) + 1; message.count = state.n; return message',
  gives: [{ member: 'count', dataType: 'integer', unit: '' }],
}
const keep: Step = { kind: 'keep', condition: 'n % 2.0 < 1.5', unknown: 'drop' }
const gather: Step = { kind: 'window', seconds: 2, by: 'average', count: 'changes' }
const change: Trigger = { kind: 'change' }
const every = (seconds: number, aligned?: boolean): Trigger => ({ kind: 'every', seconds, ...(aligned !== undefined && { aligned }) })
const when: Trigger = { kind: 'when', condition: 'n % 1000.0 < 500.0', on: 'begin' }

interface What {
  trigger?: Trigger
  pace?: Pace
  steps?: Step[]
}
/** What each road carries. */
const all: Record<string, What[]> = {
  mqtt: [{}, {}, {}, { trigger: every(1, true) }, { trigger: when, pace: { leastS: 5 } }],
  http: [{}, { steps: [script] }, { trigger: every(2) }],
  stream: [{}, { steps: [gather] }, { trigger: { ...when, on: 'while' }, pace: { mostS: 1 } }],
  table: [{}, { steps: [keep] }, { trigger: { kind: 'schedule', cron: '*/5 * * * * *', zone: 'UTC' } }],
  file: [{}, { trigger: every(1) }],
  'hub by token': [{ pace: { mostS: 1 } }, { trigger: every(2) }],
  datagram: [{}, { trigger: every(1) }],
  'hub by certificate': [{ pace: { mostS: 1 } }, { trigger: every(3, true) }],
}

async function begin(server: Awaited<ReturnType<typeof ownServer>>, { program, seconds }: ChaosOptions) {
  const t = await freshDatabase(server.url)
  const laid = await layRoads(t, Math.max(400_000, seconds * 4000), LATE_S)
  const { handles, equipmentIds } = await zonesPlant(t.db, t.vault, 20)
  const hall = await hallOf(t)
  laid.roads.set('datagram', hall.road)
  const publications: { road: string; id: string; delivery: number }[] = []
  for (const [road, list] of Object.entries(all))
    for (const [n, what] of list.entries()) publications.push({ road, ...(await laid.publish(road, n, equipmentIds, { trigger: change, ...what })) })
  const engine = new FlowProcess({ program, url: t.url, key: t.key, handles, perSecond: PER_SECOND, files: laid.top })
  return { t, laid, hall, publications, engine }
}

/** A group of datagrams, and somebody who hears it: what it heard is counted for each publication. */
async function hallOf(t: Awaited<ReturnType<typeof freshDatabase>>) {
  const settings = DatagramSettings.parse({ from: '127.0.0.1', retryMs: 200, witness: true, lateS: 60, outboxMb: 500, perSecond: 20_000 })
  const destinationId = (await addDestination(t.db, { name: 'datagram', kind: 'datagram', enabled: true, settings })).id
  const group = '239.192.77.1'
  const ports: number[] = []
  const heard: number[] = []
  const sockets = all.datagram!.map((_, n) => {
    const socket = createSocket({ type: 'udp4', reuseAddr: true, recvBufferSize: 4 << 20 })
    heard.push(0)
    socket.on('message', () => heard[n]!++)
    return socket
  })
  for (const socket of sockets) {
    await new Promise<void>((done) => socket.bind({ address: group, port: 0 }, done))
    socket.addMembership(group, '127.0.0.1')
    ports.push(socket.address().port)
  }
  const road: Road = {
    destinationId,
    address: (n) => ({ kind: 'datagram', topic: `${group}:${ports[n]}` }),
    // They bear no ids.
    copies: async () => new Map(),
    gate: null,
  }
  return {
    ...{ road, heard },
    stop() {
      for (const socket of sockets) socket.close()
    },
  }
}

interface World extends Awaited<ReturnType<typeof begin>> {
  server: Awaited<ReturnType<typeof ownServer>>
  random: () => number
  log: string[]
  /** What had arrived when a broker forgot its readers: whatever it had not handed out by then the witness never sees. */
  unhanded: Set<string>
}

/** One thing that goes wrong, from its begin to when it is over. */
const troubles: Record<string, (w: World) => Promise<void>> = {
  async 'a link is cut'(w) {
    gateOf(w).cut(0.3 + w.random() * 4)
  },
  async 'a link is slow'(w) {
    const gate = gateOf(w)
    gate.slowMs = 50 + w.random() * 400
    await pause(2000)
    gate.slowMs = 0
  },
  async 'a link is half open'(w) {
    const gate = gateOf(w)
    gate.deaf = w.random() < 0.5 ? { up: true, down: false } : { up: false, down: true }
    await pause(1000 + w.random() * 5000)
    gate.deaf = { up: false, down: false }
    gate.cut(0.2)
  },
  async 'answers are lost'({ laid }) {
    laid.stream.setFaults({ loseAnswer: 0.3 })
    laid.receiver.setFaults(ReceiverFaults.parse({ loseAnswer: 0.3 }))
    laid.broker.setFaults(BrokerFaults.parse({ dropAcks: 0.02, closeAfterAck: 0.001 }))
    await pause(2500)
    laid.stream.setFaults({})
    laid.receiver.setFaults(ReceiverFaults.parse({}))
    laid.broker.setFaults(null)
  },
  async 'leaders move, and a disk there is full'({ laid }) {
    laid.stream.moveLeaders()
    laid.stream.setFaults({ full: true })
    laid.receiver.setFaults(ReceiverFaults.parse({ full: true }))
    await pause(1500)
    laid.stream.setFaults({ throttleMs: 200 })
    laid.receiver.setFaults(ReceiverFaults.parse({ errorOn: 'api', status: 429, retryAfterS: 1 }))
    await pause(1500)
    laid.stream.setFaults({})
    laid.receiver.setFaults(ReceiverFaults.parse({}))
  },
  async 'a version is switched'(w) {
    const { id } = w.publications[Math.floor(w.random() * w.publications.length)]!
    await onDatabase(w, async (db) => {
      const p = await getPublication(db, id)
      const { id: _i, version, state: _s, liveVersion: _l, editedSinceLive: _e, ...draft } = p
      await changePublication(db, id, { ...draft, pace: { ...draft.pace, first: !(draft.pace?.first ?? true) } }, version)
      await goLive(db, id, 'test', freeze)
    })
  },
  async 'what waits is too old'(w) {
    const id = w.laid.roads.get('mqtt')!.destinationId
    const hours = (outboxHours: number) =>
      onDatabase(w, async (db) => {
        const d = await brokerAt(db, id)
        await changeDestination(db, id, { ...d, settings: { ...d.settings, outboxHours } })
      })
    await hours(0.0004)
    w.laid.roads.get('mqtt')!.gate!.cut(9)
    await pause(9500)
    await hours(0)
  },
  async 'more waits than there is room for'(w) {
    const { destinationId, gate } = w.laid.roads.get('mqtt')!
    const room = (outboxMb: number) =>
      onDatabase(w, async (db) => {
        const d = await brokerAt(db, destinationId)
        await changeDestination(db, destinationId, { ...d, settings: { ...d.settings, outboxMb } })
      })
    await room(1)
    gate!.cut(8)
    await pause(8500)
    await room(500)
  },
  async 'a token ends'({ laid: { tokenHub } }) {
    // The hub is ahead: what it was shown has ended, and so has whatever is made now.
    tokenHub.skewMs = 60_000
    tokenHub.broker.endClient(UNIT, 0x87)
    await pause(3000)
    tokenHub.skewMs = 0
  },
  async 'a broker forgets whom it knew'({ laid: { broker }, unhanded }) {
    // Killed, and begun anew without what it kept of its sessions.
    broker.comeBackWith(new Map())
    broker.cut(1.5)
    for (const { key } of broker.truth.arrivals) if (key !== null) unhanded.add(key)
    await pause(2000)
  },
  async 'a receiver and a stream are begun anew'({ laid: { receiver, stream } }) {
    receiver.cut(2)
    stream.cut(2)
    await pause(2500)
  },
  async 'the disk of the database is full'(w) {
    await onDatabase(w, (db) => full(db, true))
    await pause(2000)
    await onDatabase(w, (db) => full(db, false))
  },
  async 'the clock is set'(w) {
    w.engine.setClock(Math.round((w.random() < 0.5 ? -1 : 1) * 3_600_000 * w.random()))
    await pause(2000)
    w.engine.setClock(0)
  },
  async 'the engine is killed'({ engine }) {
    await engine.kill()
    await engine.start()
  },
  async 'the engine stands still'({ engine }) {
    const { goOn } = engine.freeze()
    await pause(3000)
    goOn()
  },
  async 'the database is stopped at once'({ server }) {
    await server.stop('SIGQUIT')
    await pause(1000)
    await server.start()
  },
}

function gateOf(w: World) {
  const gates = [...w.laid.roads.values()].flatMap((r) => r.gate ?? [])
  return gates[Math.floor(w.random() * gates.length)]!
}

/** What people do meanwhile; again while the database is away. */
async function onDatabase(w: World, work: (db: Db) => Promise<unknown>): Promise<void> {
  await until(
    async () => {
      const db = openDatabase(w.t.url, 1)
      try {
        await work(db)
        return true
      } catch (e) {
        w.log.push(`  again: ${e instanceof Error ? e.message : String(e)}`)
        return false
      } finally {
        await db.destroy().catch(() => undefined)
      }
    },
    'the database to take a change',
    60,
  )
}

export interface ChaosOptions {
  /** The bundled program of an engine whose tags change. */
  program: string
  seconds: number
  seed: number
  /** Only troubles whose name it matches. */
  only?: RegExp
  /** How long every verdict is waited for, s. */
  waitS: number
}

export interface ChaosOutcome {
  /** Messages whose verdict is not that of what lies at the far end, the first ones. */
  wrong: string[]
  /** Messages stored, and by verdict. */
  sums: Record<string, number>
  /** What went wrong in which order, and what the engine said last. */
  said: string
}

/** Lets everything go wrong by a seed for so long, then waits for every verdict and holds each against what lies at the far end. */
export async function chaos(o: ChaosOptions): Promise<ChaosOutcome> {
  const server = await ownServer()
  await server.start()
  const begun = await begin(server, o)
  const w: World = { ...begun, server, random: chance(o.seed), log: [], unhanded: new Set() }
  const said = () => `seed ${o.seed}\n${w.log.join('\n')}\n${w.engine.output}`
  await breakable(w.t.db)
  await w.t.close()
  try {
    await w.engine.start()
    const end = performance.now() + o.seconds * 1000
    const names = Object.keys(troubles).filter((name) => o.only?.test(name) ?? true)
    // Each at least once, in an order by chance; then whatever comes.
    const shuffled = () => names.map((name) => ({ name, at: w.random() })).sort((a, b) => a.at - b.at)
    let next = shuffled()
    while (performance.now() < end) {
      const { name } = next.shift()!
      if (next.length === 0) next = shuffled()
      w.log.push(`${new Date().toISOString()} ${name}`)
      await troubles[name]!(w)
      await pause(500 + w.random() * 1500)
    }
    w.engine.still()
    await pause(1000)
    const db = openDatabase(w.t.url, 2)
    const found = await judged(w, db, o.waitS, said)
    await db.destroy()
    return { ...found, said: said() }
  } finally {
    await w.engine.end()
    w.hall.stop()
    await w.laid.stop()
    await w.t.drop()
    await server.stop('SIGINT')
  }
}

/** Waits for every verdict, and holds each against what lies at the far end. */
async function judged(w: World, db: Db, waitS: number, said: () => string): Promise<Pick<ChaosOutcome, 'wrong' | 'sums'>> {
  let waiting = ''
  const ledger = await until(
    async () => {
      const read = await readLedger(db)
      const counts = w.publications.map(({ delivery }) => read.countsOf(delivery))
      waiting = w.publications
        .map((p, i) => `${p.road} ${p.delivery} ${JSON.stringify(counts[i])}`)
        .filter((line) => !line.includes('"waiting":0'))
        .join('\n')
      return counts.every((c) => c && c.stored > 0 && c.waiting === 0) ? read : null
    },
    () => `every message to have its verdict: ${waiting}\n${said()}`,
    waitS,
  )
  const installation = await installationCode(db)
  const there = new Map<string, Map<string, number>>()
  for (const [name, road] of w.laid.roads) there.set(name, await road.copies())
  const sums: Record<string, number> = { stored: 0 }
  const wrong: string[] = []
  for (const { road, delivery } of w.publications) {
    const unknown = new Map<number, RangeSet>()
    const account = ledger.account(delivery)
    const counts = account.counts()
    const sum = verdicts.reduce((n, v) => n + counts[v], 0)
    if (road === 'datagram') wrong.push(...wrongInHall(w, delivery, counts))
    if (sum !== counts.stored) wrong.push(`${road} ${delivery}: ${sum} verdicts of ${counts.stored} messages`)
    sums.stored! += counts.stored
    const copiesOf = (seq: number) => there.get(road)!.get(messageId(installation, delivery, seq)) ?? 0
    const missed = gapOf(counts.stored, (seq) => account.verdict(seq) === 'unknown' && copiesOf(seq) > 0)
    for (let seq = 1; seq <= counts.stored; seq++) {
      const copies = copiesOf(seq)
      const is = account.verdict(seq)!
      sums[is] = (sums[is] ?? 0) + 1
      if (is === 'unknown' && road === 'datagram') sums['unknown datagrams'] = (sums['unknown datagrams'] ?? 0) + 1
      if (is === 'unknown') (unknown.get(copies) ?? unknown.set(copies, new RangeSet()).get(copies)!).add(seq)
      if (road === 'datagram') continue
      const unhanded = missed(seq) || w.unhanded.has(messageId(installation, delivery, seq))
      if (!mayBe(copies, unhanded).includes(is)) wrong.push(`${road} ${delivery} no. ${seq}: ${is}, and there are ${copies}`)
    }
    for (const [copies, of] of unknown)
      w.log.push(`${road} ${delivery}: ${of.count} unknown of which there are ${copies}: ${[...of].map((r) => r.join(' to ')).join(', ')}`)
  }
  return { wrong: wrong.slice(0, 20), sums }
}

/** Whether a number lies among those that went out while no witness was there: of what went out again afterwards it saw one copy. */
function gapOf(stored: number, unseen: (seq: number) => boolean): (seq: number) => boolean {
  let [first, last] = [Number.POSITIVE_INFINITY, 0]
  for (let seq = 1; seq <= stored; seq++) if (unseen(seq)) [first, last] = [Math.min(first, seq), seq]
  return (seq) => seq >= first && seq <= last
}

/** The verdicts that a message may have of which so many copies lie there; `unhanded`: some of them may have been kept from the witness. */
function mayBe(copies: number, unhanded: boolean): readonly string[] {
  if (copies === 0) return ['dropped', 'rejected', 'unknown']
  if (copies === 1) return ['confirmed', 'late', 'disordered', 'unknown']
  return ['doubled', 'disordered', 'unknown', ...(unhanded ? ['confirmed', 'late'] : [])]
}

/** Datagrams bear no ids: none may be missing or altered that nobody lost, and no more arrived than somebody else heard. */
function wrongInHall(w: World, delivery: number, counts: Counts): string[] {
  const n = w.publications.filter((p) => p.road === 'datagram').findIndex((p) => p.delivery === delivery)
  const heard = w.hall.heard[n]!
  const out: string[] = []
  for (const verdict of ['missing', 'altered', 'rejected', 'acknowledged'] as const)
    if (counts[verdict] > 0) out.push(`datagram ${delivery}: ${counts[verdict]} ${verdict}`)
  if (counts.arrived > heard) out.push(`datagram ${delivery}: ${counts.arrived} arrived, and ${heard} were heard`)
  if (counts.arrived + counts.unknown + counts.dropped !== counts.stored) out.push(`datagram ${delivery}: ${JSON.stringify(counts)}`)
  return out
}
