import type { IPublishPacket } from 'mqtt-packet'
import type { Destination } from '~/contract/destination'
import { MqttSettings } from '~/contract/destinations/mqtt'
import type { Plan } from '~/contract/publication'
import { flatJsonSettings } from '~/contract/shape'
import { mqttAddress } from '~/core/address/kinds/mqtt'
import type { HighWater } from '~/core/delivery/high-water'
import { chance } from '~/core/value/chance'
import type { Aside } from '~/engine/destinations/lane'
import { mild, SimBroker, type Temper } from './broker'
import { SimEngine } from './engine'
import { fair, holdsMessage, Net } from './net'
import { Oracle } from './oracle'
import { type Owner, Scheduler } from './scheduler'
import { draw, drawOld, type Step } from './script'
import { type Mood, SimDatabase } from './store'

/** How long a world has to come to rest when nothing more goes wrong, ms. */
const REST_MS = 15 * 60_000

export interface Outcome {
  seed: number
  problems: string[]
  /** What happened, in words with times. */
  story: string[]
  script: Step[]
  events: number
  messages: number
  verdicts: Record<string, number>
}

const HANDLE = 1

/** A world made of a seed: five minutes in which everything goes wrong that its script says, then a time to come to rest. */
export class World {
  readonly random: () => number
  readonly scheduler: Scheduler
  readonly net: Net
  readonly broker: SimBroker
  readonly database: SimDatabase
  readonly oracle: Oracle
  /** The machine on which the engines run: its wall clock may be set. */
  readonly machine = { offset: Date.UTC(2026, 10, 27) }
  destinations: Extract<Destination, { kind: 'mqtt' }>[] = []
  plans: Plan[] = []
  private readonly paused = new Set<string>()
  /** Every filter that was ever live, the newest last. */
  private readonly filters: { destinationId: string; filter: string; number: number }[] = []
  engines: SimEngine[] = []
  readonly problems: string[] = []
  readonly story: string[] = []
  private value = 0
  private engineNumber = 0
  private mood: Mood = 'well'
  private readonly partitioned = new Map<Owner, Mood>()
  private killed = false
  private limitsChanged = false
  /** When each value came to be, by the clock of the world. */
  private readonly bornAt: number[] = []
  private ambiguity = false
  asides: Aside[] = []

  constructor(readonly seed: number) {
    this.random = chance(seed)
    const own = () => chance(Math.floor(this.random() * 2 ** 31))
    this.scheduler = new Scheduler(own())
    this.broker = new SimBroker(
      this.scheduler,
      own(),
      (topic, payload, p) => this.keyAtBroker(topic, payload, p),
      (link, again) => this.net.answered(link, again),
    )
    this.net = new Net(this.scheduler, own(), (link) => this.broker.accept(link))
    this.database = new SimDatabase(this.scheduler, own())
    this.database.mood = (owner) => this.partitioned.get(owner) ?? this.mood
    this.oracle = new Oracle({
      database: this.database,
      broker: this.broker,
      of: (delivery) => {
        const plan = this.plans.find((p) => p.delivery === delivery)!
        const { settings } = this.destinations.find((d) => d.id === plan.destinationId)!
        return { witness: settings.witnessClientId, sender: settings.clientId, byId: settings.protocol === '5' }
      },
      keyOf: (m) => `${m.topic} ${Buffer.from(m.payload).toString()}`,
      ambiguous: () => this.ambiguity,
      wentTwice: (m) => this.engines.some((e) => e.up && !(e.ledger.accounts.get(m.delivery)?.wentOnce(m.seq) ?? true)),
      now: () => this.scheduler.now,
      wasRestored: () => this.restored,
      engineDied: () => this.killed || this.engineNumber > 1,
      lateAfter: (delivery) => {
        if (this.limitsChanged) return null
        const plan = this.plans.find((p) => p.delivery === delivery)!
        return this.destinations.find((d) => d.id === plan.destinationId)!.settings.lateS * 1000
      },
      bornAt: (payload) => this.bornAt[Number(/"n":(\d+)/.exec(payload)?.[1])] ?? 0,
      problem: (text) => this.problem(text),
    })
  }

  /** All messages differ, so their content tells them apart, with an id or without. */
  private keyAtBroker(topic: string, payload: Buffer, _p: IPublishPacket): string {
    return `${topic} ${payload.toString()}`
  }

  note(text: string): void {
    this.story.push(`${(this.scheduler.now / 1000).toFixed(3)} s: ${text}`)
  }

  problem(text: string): void {
    if (this.problems.length < 20) this.problems.push(`${(this.scheduler.now / 1000).toFixed(3)} s: ${text}`)
  }

  event(e: SimEngine, subject: string, severity: string, code: string, message: string): void {
    if (this.story.length < 2000) this.note(`${e.name} ${subject} ${severity} ${code}: ${message}`)
  }

  aside(a: Aside): void {
    this.asides.push(a)
    const { topic } = a.envelope
    if (a.failure.code === 'destination.hangs-up' && !this.broker.disliked.has(topic))
      this.problem(`one to ${topic} went aside, and nobody hung up on it`)
  }

  filtersOf(destinationId: string): string[] {
    const own = this.filters.filter((f) => f.destinationId === destinationId)
    const newest = new Map<string, number>()
    for (const f of own) newest.set(f.filter.split('/')[0]!, Math.max(newest.get(f.filter.split('/')[0]!) ?? 0, f.number))
    return [...new Set(own.filter((f) => f.number > newest.get(f.filter.split('/')[0]!)! - 3).map((f) => f.filter))]
  }

  isLive(plan: Plan): boolean {
    return !this.paused.has(plan.publicationId)
  }

  /** A change of the tag, as a source would tell it, to one engine or all. */
  changeTags(only?: SimEngine): void {
    this.value++
    this.bornAt[this.value] = this.scheduler.now
    for (const e of only ? [only] : this.engines)
      if (e.owner.alive)
        e.table.apply(
          { handles: [HANDLE], values: [this.value], statuses: [0], times: [this.machine.offset + this.scheduler.now] },
          this.machine.offset + this.scheduler.now,
        )
  }

  /** What destinations say of their links is so. */
  private words(): void {
    for (const e of this.engines)
      for (const d of e.owner.alive ? e.destinations.values() : []) {
        const client = (d.destination.settings as MqttSettings).clientId
        if (d.present().reason.includes('one by one') && !this.net.suspect(client))
          this.problem(`${e.name} says that the link was lost on one of the messages, and it was not`)
      }
  }

  /** Octets that an engine wrote: no message may go out under an epoch that is over. */
  wrote(e: SimEngine, client: string, bytes: Uint8Array): void {
    // One that runs while the database is exchanged has a moment to notice.
    if (this.database.lease.epoch === e.epoch || (this.restored && this.database.lease.epoch < e.epoch)) return
    if (holdsMessage(bytes)) this.problem(`${e.name} as ${client} sends under epoch ${e.epoch}, ${this.database.lease.epoch} has begun`)
  }

  private changed(): void {
    for (const e of this.engines) if (e.owner.alive) this.scheduler.in(5, () => e.reconcile(), e.owner)
  }

  private startEngine(): void {
    const e = new SimEngine(this, `engine ${++this.engineNumber}`)
    this.engines = [...this.engines.filter((o) => o.owner.alive), e]
    this.note(`${e.name} starts`)
    void e.start()
  }

  private goLive(publicationId: string, topic: string, qos: 0 | 1 | 2): void {
    const at = this.plans.findIndex((p) => p.publicationId === publicationId)
    const before = this.plans[at]!
    this.plans[at] = makePlan({ ...before, number: before.number + 1, qos }, topic)
    this.filters.push({ destinationId: before.destinationId, filter: topic, number: before.number + 1 })
    this.paused.delete(publicationId)
  }

  private lay(settings: Partial<MqttSettings>[], publications: { destination: number; qos: 0 | 1 | 2 }[]): void {
    this.destinations = settings.map((s, i) => ({
      id: `d${i}`,
      name: `destination ${i}`,
      kind: 'mqtt' as const,
      enabled: true,
      version: 1,
      publicationCount: 1,
      settings: MqttSettings.parse({ ...baseSettings, clientId: `sender-${i}`, witnessClientId: `witness-${i}`, ...s }),
    }))
    this.plans = publications.map((p, i) => {
      const topic = `p${i}/v1`
      this.filters.push({ destinationId: `d${p.destination}`, filter: topic, number: 1 })
      return makePlan({ publicationId: `p${i}`, number: 1, delivery: i + 1, destinationId: `d${p.destination}`, qos: p.qos }, topic)
    })
  }

  private do(s: Step): void {
    this.note(JSON.stringify(s))
    const { broker, net } = this
    switch (s.kind) {
      case 'cut':
        net.shutUntil = this.scheduler.now + s.ms
        return net.cutAll()
      case 'restore':
        return this.restore(s.agoMs, s.killed)
      case 'flaps':
        for (let i = 0; i < s.n; i++) this.scheduler.in(i * s.everyMs, () => this.flapping && net.cutAll())
        return
      case 'deaf':
        for (const l of net.links) {
          l.weather.deafUp ||= s.up
          l.weather.deafDown ||= !s.up
        }
        return
      case 'weather':
        net.weather = () => ({ ...fair(), latency: s.latency, bandwidth: s.bandwidth })
        return
      case 'broker':
        if (s.memory !== 'kept') this.ambiguity = true
        return broker.restart(s.memory, s.ms)
      case 'temper':
        if (s.part.newIds || s.part.oldSession) this.ambiguity = true
        broker.temper = { ...broker.temper, ...(s.part as Partial<Temper>) }
        if (s.part.quotaUntil) broker.temper.quotaUntil = this.scheduler.now + s.part.quotaUntil
        return
      case 'database':
        this.mood = s.mood
        this.scheduler.in(s.ms, () => {
          if (this.mood === s.mood) this.mood = 'well'
          this.unwellAt = this.scheduler.now
        })
        return
      case 'partition': {
        const e = this.engines.find((o) => o.up && o.owner.alive)
        if (!e) return
        this.partitioned.set(e.owner, s.mood)
        this.scheduler.in(s.ms, () => {
          this.partitioned.delete(e.owner)
          this.unwellAt = this.scheduler.now
        })
        // Somebody else is there to take over.
        if (this.engines.filter((o) => o.owner.alive).length < 2) this.startEngine()
        return
      }
      case 'kill': {
        const e = this.engines.find((o) => o.owner.alive)
        this.killed = true
        e?.kill(s.told)
        this.scheduler.in(s.ms, () => this.startEngine())
        return
      }
      case 'second engine':
        return this.startEngine()
      case 'clock':
        this.clockWasSet = true
        this.machine.offset += s.ms
        return
      case 'save': {
        const d = this.destinations[s.destination % this.destinations.length]!
        if (s.part.lateS !== undefined || !s.enabled) this.limitsChanged = true
        const changed = { ...d, version: d.version + 1, enabled: s.enabled, settings: { ...d.settings, ...s.part } }
        this.destinations = this.destinations.map((o) => (o === d ? changed : o))
        return this.changed()
      }
      case 'go live': {
        const p = this.plans[s.publication % this.plans.length]!
        this.goLive(p.publicationId, `${p.publicationId}/v${p.number + 1}`, s.qos)
        return this.changed()
      }
      case 'pause': {
        const p = this.plans[s.publication % this.plans.length]!
        if (this.paused.has(p.publicationId)) this.paused.delete(p.publicationId)
        else this.paused.add(p.publicationId)
        return this.changed()
      }
      case 'flood':
        for (let i = 0; i < s.n; i++) this.changeTags()
        return
    }
  }

  private restore(agoMs: number, killed: boolean): void {
    const at = this.scheduler.now - agoMs
    const copy = this.backups.findLast((b) => b.at <= at)
    if (!copy) return
    // An engine that lost its lease without knowing it cannot tell the two databases apart: whoever restores stops it first.
    for (const e of this.engines) if (e.owner.alive && (!e.up || e.epoch !== this.database.lease.epoch)) e.kill(true, 'is stopped')
    this.ambiguity = this.killed = this.restored = true
    if (killed) for (const e of this.engines) e.kill(true)
    copy.back()
    this.backups = this.backups.filter((b) => b.at <= copy.at)
    this.oracle.restored()
    // Whoever still runs finds that the database is another one, and ends.
    const startAgain = () => {
      if (!this.engines.some((e) => e.owner.alive)) this.startEngine()
      else if (this.flapping) this.scheduler.in(15_000, startAgain)
    }
    this.scheduler.in(15_000, startAgain)
  }

  private backUp(): void {
    // Of a database that answers.
    const well = this.mood === 'well' && this.partitioned.size === 0 && this.scheduler.now - this.unwellAt > 20_000
    if (well) this.backups.push({ at: this.scheduler.now, back: this.database.copy() })
    this.scheduler.in(5000, () => this.backUp())
  }

  /** Nothing goes wrong any more. */
  private calm(): void {
    this.note('all faults cease')
    this.flapping = false
    this.broker.temper = { ...mild() }
    this.broker.up = true
    this.net.shutUntil = 0
    this.net.weather = fair
    // What is deaf stays so until somebody notices.
    for (const l of this.net.links) {
      l.weather.latency = 2
      l.weather.bandwidth = null
    }
    this.mood = 'well'
    this.partitioned.clear()
    if (!this.engines.some((e) => e.owner.alive)) this.startEngine()
    this.destinations = this.destinations.map((d) => (d.enabled ? d : { ...d, enabled: true, version: d.version + 1 }))
    this.changed()
  }

  private clockWasSet = false
  private flapping = true
  private restored = false
  private unwellAt = Number.NEGATIVE_INFINITY
  private backups: { at: number; back: () => void }[] = []
  /** What engines of this machine keep beside the database. */
  highWater: HighWater | null = null

  private get atRest(): boolean {
    const e = this.engines.find((o) => o.up && o.lease.valid())
    if (!e) return false
    for (const d of e.destinations.values()) {
      const { reason, last, since } = d.present()
      // It is told to try messages one by one although one was answered since; told by wall times, so only where none was set.
      const untrue = !this.clockWasSet && reason.includes('one by one') && last !== null && last > since
      if (d.outbox.waiting > 0 || untrue) return false
    }
    for (const a of e.ledger.accounts.values()) if (a.counts().waiting > 0 || a.changed) return false
    for (const copies of this.broker.copies.values()) for (const c of copies) if (!c.gone && !c.acked && c.arrivedAt === null) return false
    return e.destinations.size === this.destinations.length
  }

  async run(script: Step[], minutes: number): Promise<Outcome> {
    const first = script[0]
    if (first?.kind !== 'lay') throw new Error('a script begins with what there is')
    this.lay(first.settings, first.publications)
    const end = minutes * 60_000
    for (const s of script.slice(1)) this.scheduler.at(s.at * 1000, () => this.do(s))
    const tick = () => {
      if (this.scheduler.now >= end) return
      this.changeTags()
      this.words()
      this.scheduler.in((first.everyMs * (0.2 + 1.6 * this.random())) | 0, tick)
    }
    tick()
    if (script.some((s) => s.kind === 'restore')) this.backUp()
    this.startEngine()
    await this.scheduler.run(end)
    this.calm()
    let quiet = 0
    while (this.scheduler.now < end + REST_MS && this.problems.length === 0) {
      await this.scheduler.run(this.scheduler.now + 2000)
      quiet = this.atRest ? quiet + 1 : 0
      if (quiet >= 3) break
    }
    if (this.problems.length === 0 && quiet < 3) this.problem(`no rest ${REST_MS / 60_000} minutes after the last fault: ${this.unrest()}`)
    const verdicts = this.problems.length === 0 ? this.oracle.judge() : {}
    for (const e of this.engines) e.owner.alive = false
    const { seed, problems, story } = this
    return { seed, problems, story, script, events: this.scheduler.events, messages: this.oracle.stored.size, verdicts }
  }

  private unrest(): string {
    const alive = this.engines.filter((o) => o.owner.alive)
    return JSON.stringify(
      alive.map((e) => ({
        name: e.name,
        up: e.up,
        lease: e.lease.valid(),
        destinations: [...e.destinations.values()].map((d) => [d.present().state, d.present().reason, d.outbox.waiting, d.witness?.present().reason]),
        accounts: [...e.ledger.accounts.values()].map((a) => [a.delivery, a.counts().waiting, a.openCount, a.earlyCount]),
      })),
    )
  }
}

const baseSettings = {
  host: 'broker',
  port: 1883,
  protocol: '5',
  tls: false,
  authorityId: null,
  credentialId: null,
  keepAliveS: 10,
  retryMs: 200,
  window: 20,
  ackS: 5,
  witness: true,
  witnessCredentialId: null,
  lateS: 5,
  outboxMb: 50,
  outboxHours: 0,
  drainPerS: 0,
  journalHours: 24,
  journalMb: 20,
}

function makePlan(p: Pick<Plan, 'publicationId' | 'number' | 'delivery' | 'destinationId'> & { qos: 0 | 1 | 2 }, topic: string): Plan {
  const member = { key: 'n', label: 'n', description: '', dataType: 'number', unit: '', required: false, range: null, allowed: null, tag: 'n' }
  return {
    publicationId: p.publicationId,
    name: p.publicationId,
    number: p.number,
    delivery: p.delivery,
    destinationId: p.destinationId,
    trigger: { kind: 'change' },
    shape: flatJsonSettings,
    address: { ...mqttAddress.fresh, qos: p.qos },
    contentType: 'application/json',
    reads: [topic],
    equipment: [
      {
        id: 'e',
        name: 'Zone',
        path: ['Zone'],
        className: '',
        classVersion: 0,
        facts: {},
        members: [{ ...member, fill: { kind: 'tag', handle: HANDLE, width: 0, factor: 1, offset: 0 } }],
      },
    ],
    messages: [{ equipment: [0], members: null, steering: [], place: topic, key: '', headers: [], responseTopic: '' }],
  } as unknown as Plan
}

/** Runs the world of a seed. */
export function runSeed(seed: number, minutes = 5, restores = false): Promise<Outcome> {
  return new World(seed).run(draw(seed, minutes, restores), minutes)
}

/** As it was before there were flapping links and brokers that are busy now and then. */
export function runOldSeed(seed: number): Promise<Outcome> {
  return new World(seed).run(drawOld(seed, 5), 5)
}
