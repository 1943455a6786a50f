import { Broker, type BrokerRules, type Refusal } from '../broker/broker'
import type { Message } from '../broker/message'
import type { Stream } from '../stream/stream'
import { type HubLog, LogPage } from './log-page'
import { Routing } from './routing'
import { judge } from './token'
import { type Limits, type Unit, Units } from './units'

/** MQTT 5 2.4. */
const Reason = {
  badLogIn: 0x86,
  notAllowed: 0x87,
  implementation: 0x83,
  topic: 0x90,
  tooLarge: 0x95,
  quota: 0x97,
  retain: 0x9a,
  qos: 0x9b,
} as const

const TRUTH_MOST = 1_000_000

export interface HubOptions {
  /** By a token that a key of the unit sealed, or by a certificate that was registered. */
  by: 'token' | 'certificate'
  /** As units name it, and as it stands in tokens. */
  host: string
  port: number
  tls: { certificate: string; key: string; ca: string }
  /** Where what it took can be read back. */
  events: { stream: Stream; topic: string }
  limits?: Limits
  /** So much of what it took and refused is kept to be looked at. */
  most?: number
}

/** What a message of a unit is: its way below the unit, and what was written beside it. */
interface Told {
  path: string
  properties: Record<string, string>
}

function textOf(payload: Buffer): unknown {
  const text = payload.toString('utf8').slice(0, 2000)
  try {
    return JSON.parse(text)
  } catch {
    return text
  }
}

/**
 * A cloud hub: it knows units, lets each connect once under its own name, takes what its rules allow and says why it does not take
 * the rest. What it took can be read back from a stream of events, and goes through a routing rule into a table.
 */
export class Hub {
  readonly units: Units
  readonly log = new LogPage()
  readonly routing = new Routing()
  broker!: Broker
  /** Its clock is so far ahead, ms. */
  skewMs = 0
  /** Every message that it took, and what it refused: the ground truth. */
  readonly truth: { at: number; unit: string; path: string; id: string | null; refused: string | null }[] = []

  private constructor(readonly o: HubOptions) {
    this.units = new Units(o.limits)
  }

  static async start(o: HubOptions): Promise<Hub> {
    const hub = new Hub(o)
    const { certificate, key, ca } = o.tls
    hub.broker = await Broker.start({
      ports: o.by === 'token' ? { tls: o.port } : { mutual: o.port },
      host: '127.0.0.1',
      ca,
      certificate,
      key,
      users: [],
      rules: hub.rules(),
    })
    return hub
  }

  now(): number {
    return Date.now() + this.skewMs
  }

  /** Where a unit speaks and listens. */
  private root(unit: string): string {
    return this.o.by === 'token' ? `tarn/${unit}/` : `fell/u/${unit}/`
  }

  private rules(): BrokerRules {
    return {
      logIn: ({ user, password, clientId }) => this.byToken(user, password, clientId),
      certificate: ({ name, sha256, clientId }) => this.byCertificate(name, sha256, clientId),
      refuses: (message, size) => this.refuses(message, size),
      taken: (message) => this.taken(message),
      left: (clientId) => {
        const unit = this.units.get(clientId)
        if (unit) unit.connected = false
      },
    }
  }

  private userOf(unit: Unit) {
    unit.connected = true
    const root = this.root(unit.name)
    return { name: unit.name, password: null, publish: ['#'], subscribe: [`${root}in/#`] }
  }

  private denied(unit: string, code: HubLog['code'], words: string): number {
    this.log.add({ unit, code, words, topic: '' })
    // Whatever is wrong: who is not let in learns no more than that.
    return this.o.by === 'token' ? Reason.badLogIn : Reason.notAllowed
  }

  private byToken(user: string | null, password: string | null, clientId: string) {
    const unit = this.units.get(clientId)
    if (!unit) return this.denied(clientId, 'unknown-unit', 'no such unit')
    if (!unit.enabled) return this.denied(clientId, 'disabled', 'the unit is disabled')
    if (user !== `${clientId}@${this.o.host}`) return this.denied(clientId, 'user', `the user is to be ${clientId}@${this.o.host}`)
    const judged = judge(password ?? '', { host: this.o.host, unit: clientId, keys: unit.keys, now: this.now() })
    if (typeof judged === 'string') return this.denied(clientId, 'token', judged)
    const mine = password
    this.tokens.set(clientId, mine ?? '')
    setTimeout(
      () => {
        if (this.tokens.get(clientId) !== mine) return
        this.log.add({ unit: clientId, code: 'token', words: 'its token ended while it was connected', topic: '' })
        this.broker.endClient(clientId, Reason.notAllowed)
      },
      Math.min(judged.endsAt - this.now(), 0x7fffffff),
    ).unref()
    return this.userOf(unit)
  }
  private readonly tokens = new Map<string, string>()

  private byCertificate(name: string, sha256: string, clientId: string) {
    const unit = this.units.get(name)
    if (!unit) return this.denied(name, 'unknown-unit', 'no such unit')
    if (!unit.enabled) return this.denied(name, 'disabled', 'the unit is disabled')
    if (name !== clientId) return this.denied(name, 'user', `the client id is ${clientId}, the certificate is of ${name}`)
    if (!unit.certificates.includes(sha256)) return this.denied(name, 'certificate', `the certificate ${sha256.slice(0, 16)}... is not registered`)
    return this.userOf(unit)
  }

  /** What a topic says: `tarn/{unit}/out/{path}!name=value`, or `fell/u/{unit}/e/{alias}` with properties beside it. */
  private told({ topic, properties }: Pick<Message, 'topic' | 'properties'>, unit: string): Told | null {
    const root = this.root(unit)
    if (!topic.startsWith(root)) return null
    const rest = topic.slice(root.length)
    if (this.o.by === 'token') {
      const found = /^out\/([^!]+)(?:!(.*))?$/.exec(rest)
      return found ? { path: found[1]!, properties: Object.fromEntries(new URLSearchParams(found[2] ?? '')) } : null
    }
    const alias = /^e\/([^/]*)$/.exec(rest)?.[1] ?? (rest === 'e' ? '' : null)
    if (alias === null) return null
    const said = Object.entries(properties.userProperties ?? {}).map(([name, value]) => [name, [value].flat()[0]!] as const)
    return { path: alias, properties: Object.fromEntries(said) }
  }

  /** Where a unit answers to what was handed down; null: it is no answer. */
  private answerOf(topic: string, unit: string): string | null {
    const prefix = `${this.root(unit)}a/`
    return topic.startsWith(prefix) ? topic.slice(prefix.length) : null
  }

  /** Where a unit tells of itself. */
  private selfOf(unit: string): string {
    return `${this.root(unit)}self`
  }

  private refuses(m: Message, size: number): Refusal | null {
    const unit = this.units.get(m.from)
    if (!unit) return { reason: Reason.notAllowed, end: true }
    const no = (reason: number, code: HubLog['code'], words: string, end = false): Refusal => {
      unit.refused++
      this.log.add({ unit: unit.name, code, words, topic: m.topic })
      this.note({ at: this.now(), unit: unit.name, path: m.topic, id: null, refused: code })
      return { reason, end }
    }
    if (!unit.enabled) return no(Reason.notAllowed, 'disabled', 'the unit is disabled', true)
    if (this.answerOf(m.topic, unit.name) !== null || m.topic === this.selfOf(unit.name)) return null
    const told = this.told(m, unit.name)
    if (!told) return no(Reason.topic, 'topic', 'units speak below their own name only', this.o.by === 'token')
    if (m.retain) return no(Reason.retain, 'retained', 'nothing is retained here', true)
    if (m.qos > 1) return no(Reason.qos, 'qos', 'QoS 0 and 1 are taken', true)
    if (size > unit.limits.payloadOctets) return this.tooLarge(no, `${size} octets; ${unit.limits.payloadOctets} are taken`)
    if (this.o.by === 'certificate' && !unit.aliases.has(told.path))
      return no(Reason.implementation, 'alias', told.path === '' ? 'a stream of data without an alias' : `the alias ${told.path} was not declared`)
    const beyond = this.units.count(unit, this.now())
    if (beyond === 'perDay') return no(Reason.quota, 'quota', `${unit.limits.perDay} messages a day are used up`)
    if (beyond === 'perSecond') return no(Reason.quota, 'rate', `more than ${unit.limits.perSecond} messages a second`)
    return null
  }

  /** One hub hangs up, the other answers: a PUBACK has no code of its own for it (MQTT 5 3.4.2.1). */
  private tooLarge(no: (reason: number, code: HubLog['code'], words: string, end?: boolean) => Refusal, words: string): Refusal {
    return this.o.by === 'token' ? no(Reason.tooLarge, 'size', words, true) : no(Reason.implementation, 'size', words)
  }

  private note(m: Hub['truth'][number]): void {
    const most = this.o.most ?? TRUTH_MOST
    this.truth.push(m)
    if (this.truth.length > most * 1.25) this.truth.splice(0, this.truth.length - most)
  }

  private taken(m: Message): void {
    const unit = this.units.get(m.from)
    if (!unit) return
    const answer = this.answerOf(m.topic, unit.name)
    if (answer !== null) unit.reported = { to: answer, value: m.payload.toString('utf8').slice(0, 1000) }
    if (m.topic === this.selfOf(unit.name)) unit.self = textOf(m.payload)
    const told = this.told(m, unit.name)
    if (!told) return
    const at = this.now()
    unit.taken++
    unit.lastAt = at
    const id = told.properties['embrik-id'] ?? null
    this.note({ at, unit: unit.name, path: told.path, id, refused: null })
    const { stream, topic } = this.o.events
    const headers = Object.entries({ ...told.properties, 'hub-unit': unit.name, 'hub-path': told.path, 'hub-at': new Date(at).toISOString() })
    stream.append(topic, {
      key: Buffer.from(unit.name),
      value: m.payload,
      headers: headers.map(([name, value]) => [name, Buffer.from(value)]),
      at,
    })
    const contentType = told.properties['content-type'] ?? m.properties.contentType ?? ''
    this.routing.take(unit.name, told.path, m.payload, contentType, at)
  }

  /** Hands something down to a unit; false: it is not connected. */
  tell(unit: Unit, path: string, value: unknown): boolean {
    if (path === 'desired') unit.desired = value
    const topic = `${this.root(unit.name)}in/${path}`
    const payload = Buffer.from(JSON.stringify(value))
    this.broker.publish({ topic, payload, qos: 1, retain: false, expires: null, properties: {}, from: '' })
    return unit.connected
  }

  /** A unit that is disabled is thrown out. */
  enable(unit: Unit, enabled: boolean): void {
    unit.enabled = enabled
    if (!enabled) this.broker.endClient(unit.name, Reason.notAllowed)
  }

  stop(): Promise<void> {
    return this.broker.stop()
  }
}
