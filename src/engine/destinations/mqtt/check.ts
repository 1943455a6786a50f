import type { CheckStep } from '~/contract/failure'
import { fail } from '~/contract/failure'
import { serversOf } from '~/contract/place'
import { plainMessage } from '~/core/mqtt/publish'
import { qosOf } from '~/core/mqtt/qos'
import { reasonOf } from '~/core/mqtt/reasons'
import type { Connack } from '~/core/mqtt/wire'
import { realClock } from '../../clock/real-clock'
import type { MqttAccess } from '../../net/mqtt-access'
import { dialMqtt } from '../../net/mqtt-dial'
import { mqttFailure } from '../../net/mqtt-failure'
import { type LinkHooks, MqttLink } from '../../net/mqtt-link'
import { tlsFacts } from '../../net/mqtt-socket'
import { brokerSteps, tlsWanted, webSocketSteps } from '../../net/mqtt-steps'
import { runSteps, type StepPlan } from '../../net/steps'
import type { DestinationTarget, Planned, PlannedSend } from '../driver'
import { senderAccess, witnessAccess } from './access'

/** So many topics are tried at most. */
const PROBES = 20
/** The last level of a topic that is tried: beside the real ones, so that nobody takes it for one. */
const PROBE_LEVEL = 'embrik-check'
/** What a packet has beside topic and payload, at most, octets: properties, our id, lengths. */
const AROUND = 200

/** How a check appears: the one in use must not be thrown off the broker by it. */
const ofCheck = (a: MqttAccess): MqttAccess => ({ ...a, clientId: `${a.clientId}-check` })

/** Logs in as it is said, without a session. */
async function tryLogin<T>(probe: MqttAccess, then: (link: MqttLink) => Promise<T>, hooks: Partial<LinkHooks> = {}): Promise<T> {
  const link = await MqttLink.connect(
    dialMqtt,
    realClock,
    { access: probe, clean: true, expiryS: 0, receiveMaximum: 100 },
    { message: (p) => p.qos > 0 && link.acknowledge(p.packetId), closed: () => undefined, ...hooks },
  )
  try {
    return await then(link)
  } finally {
    link.close()
  }
}

/** What the broker says of its limits, in words. */
function limitsOf({ connack: c }: MqttLink): string {
  const said = [
    ...(c.maximumQos < 2 ? [`QoS up to ${c.maximumQos}`] : []),
    ...(c.retainAvailable ? [] : ['no retained messages']),
    ...(c.maximumPacketSize < 268_435_455 ? [`packets up to ${c.maximumPacketSize} octets`] : []),
    ...(c.receiveMaximum < 65_535 ? [`${c.receiveMaximum} messages under way`] : []),
    ...(c.serverKeepAlive === null ? [] : [`keep-alive ${c.serverKeepAlive} s`]),
  ]
  return said.length > 0 ? `; it takes ${said.join(', ')}` : ''
}

/** What of a publication the broker will not take, by its own greeting (MQTT 5 3.2.2.3); null: nothing. */
export function beyondLimits(c: Connack, s: PlannedSend): { message: string; hint: string } | null {
  const qos = qosOf[s.assurance]
  if (qos > c.maximumQos)
    return {
      message: `${s.publication} sends at QoS ${qos}, the broker takes no QoS above ${c.maximumQos}`,
      hint: 'Choose a lower QoS in the publication: its messages would go aside',
    }
  if (s.kept && !c.retainAvailable)
    return {
      message: `${s.publication} sends retained messages, the broker keeps none`,
      hint: 'Switch retain off in the publication: its messages would go aside',
    }
  const size = s.bytes === null ? 0 : s.bytes + new TextEncoder().encode(s.topic).length
  if (size > c.maximumPacketSize)
    return {
      message: `A message of ${s.publication} had ${size} octets of late, the broker takes packets up to ${c.maximumPacketSize}`,
      hint: 'Send less in one message, or raise the limit there: such messages go aside',
    }
  if (size + AROUND > c.maximumPacketSize)
    return {
      message: `Messages of ${s.publication} come close to the ${c.maximumPacketSize} octets that the broker takes`,
      hint: 'A longer value would put them aside: send less in one message, or raise the limit there',
    }
  return null
}

async function takes(link: MqttLink, sends: readonly PlannedSend[]): Promise<string> {
  for (const s of sends) {
    const no = beyondLimits(link.connack, s)
    if (no) throw fail(502, 'mqtt.limits', no.message, no.hint, 'destination')
  }
  return `all that ${several(new Set(sends.map((s) => s.publication)).size, 'publication')} send, by what it says of its limits`
}

const several = (n: number, what: string) => (n === 1 ? `1 ${what}` : `${n} ${what}s`)

/** Topics beside the real ones: the same but for their last level. */
const beside = (sends: readonly PlannedSend[]) =>
  [...new Set(sends.map((s) => [...s.topic.split('/').slice(0, -1), PROBE_LEVEL].join('/')))].slice(0, PROBES)

/** Publishes an empty message without a life beside each topic and gives the refused ones; a broker that hangs up ends it with the reason why. */
async function mayPublish(access: MqttAccess, sends: readonly PlannedSend[]): Promise<string> {
  const topics = beside(sends)
  const answers = new Map<number, number>()
  let lost: unknown = null
  let wake: () => void = () => undefined
  const refused = await tryLogin(
    access,
    async (link) => {
      for (const [i, topic] of topics.entries()) {
        const answered = new Promise<void>((done) => {
          wake = done
        })
        // Its life is over before it can be handed to anybody (3.3.2.3.3): only the broker's answer is of interest.
        if (lost === null) link.publish({ ...plainMessage(topic, new Uint8Array(), 1, i + 1), properties: '', expiryS: 0 })
        const cancel = realClock.after(5000, () => wake())
        await answered
        cancel()
        if (lost !== null) throw hungUp(topic, lost, access)
        if (!answers.has(i + 1))
          throw fail(
            502,
            'mqtt.silent',
            `The broker does not answer to a message to ${topic}`,
            'It is overloaded, or drops what may not be sent there',
            'destination',
          )
      }
      return topics.filter((_, i) => (answers.get(i + 1) ?? 0) >= 0x80)
    },
    {
      answered: (_, packetId, reason) => {
        answers.set(packetId, reason)
        wake()
      },
      closed: (why) => {
        lost = why
        wake()
      },
    },
  )
  if (refused.length > 0) {
    const { words, hint } = reasonOf(answers.get(topics.indexOf(refused[0]!) + 1)!)
    throw fail(502, 'mqtt.may-not-publish', `The broker refuses messages to ${refused.join(', ')}: ${words}`, hint, 'destination')
  }
  return `tried with an empty message at ${topics.join(', ')}`
}

function hungUp(topic: string, why: unknown, access: MqttAccess) {
  const { message } = mqttFailure(why, access)
  return fail(
    502,
    'mqtt.hangs-up',
    `The broker ends the connection at a message to ${topic}: ${message}`,
    'It may not permit this topic, or not like its characters; ask who runs it, or change the topic',
    'destination',
  )
}

async function mayRead(link: MqttLink, filters: readonly string[]): Promise<string> {
  const reasons = await link.subscribe(filters)
  const refused = filters.flatMap((f, i) => ((reasons[i] ?? 0x80) >= 0x80 ? [`${f} (${reasonOf(reasons[i] ?? 0x80).words})`] : []))
  if (refused.length > 0)
    throw fail(
      502,
      'witness.refused',
      `The broker does not let the witness read ${refused.join(', ')}`,
      'Give its certificate or log-in the permission to subscribe there',
      'witness',
    )
  return filters.length > 0 ? `may read ${filters.join(', ')}` : 'logged in; what it may read shows at the first go-live'
}

/** Another destination of ours that would throw this one off the broker: the same place, the same client id. */
export function sameIdentity(target: DestinationTarget<'mqtt'>, others: Planned['others']): string | null {
  const { host, port, clientId, witness, witnessClientId } = target.settings
  const own = new Set([clientId, ...(witness ? [witnessClientId] : [])])
  for (const o of others) {
    if (o.kind !== 'mqtt' || o.settings.host !== host || o.settings.port !== port) continue
    for (const id of [o.settings.clientId, ...(o.settings.witness ? [o.settings.witnessClientId] : [])])
      if (own.has(id)) return `${o.name} uses the client id ${id} at this broker too`
  }
  return null
}

/** A port that hangs up or answers in another tongue: finds out whether it wants TLS, or the other version. Null: neither. */
async function whyHungUp(e: unknown, a: MqttAccess): Promise<unknown> {
  if (!['mqtt.reset', 'mqtt.other', 'mqtt.no-greeting'].includes(mqttFailure(e, a).code)) return null
  const secure = await tlsWanted(a)
  if (secure) return secure
  const other = a.protocol === '5' ? '3.1.1' : '5'
  const speaksOther = await tryLogin({ ...a, protocol: other }, async () => true).catch(() => false)
  return speaksOther ? fail(502, 'mqtt.version', `The broker speaks MQTT ${other}, not ${a.protocol}`, `Choose MQTT ${other}`, 'destination') : null
}

/** TLS, and, where the other side hangs up at it, whether it is a broker without. */
async function shakeHands(a: MqttAccess): Promise<string> {
  try {
    return await tlsFacts(a)
  } catch (e) {
    if (mqttFailure(e, a).code !== 'mqtt.reset') throw e
    // Whatever it says to the log-in: only a broker without TLS says anything.
    const answers = await tryLogin({ ...a, tls: false }, async () => true).catch((no: unknown) => mqttFailure(no, a).code.startsWith('mqtt.connack'))
    if (!answers) throw e
    throw fail(
      502,
      'tls.none',
      `Port ${a.port} of ${a.host} is a broker's, without TLS`,
      'Switch TLS off, or take the TLS port (often 8883)',
      'destination',
    )
  }
}

/** Whether one of the other hosts could take over. */
function otherHost(a: MqttAccess): StepPlan {
  const at = `${a.host}:${a.port}`
  return {
    key: `other ${at}`,
    label: `Other host ${at}`,
    run: async () => `takes the log-in${await tryLogin(a, async (link) => limitsOf(link))}`,
    explain: (e) => mqttFailure(e, a),
  }
}

/** Where only one client id may log in, and who has it now. */
export interface AsItself {
  /** It is connected by just these settings: a second connection would throw it out. */
  connected: boolean
}

/** Tries everything in order; saves nothing. `itself`: under its own client id. Of messages it sends empty ones beside the topics of what is live, where refusals are told. */
export async function* checkMqtt(target: DestinationTarget<'mqtt'>, planned: Planned, itself: AsItself | null = null): AsyncGenerator<CheckStep> {
  const { settings } = target
  const { filters, sends, others } = planned
  const sender = itself ? senderAccess(target) : ofCheck(senderAccess(target))
  const loggedIn = sender.cert ? 'the broker takes the client certificate' : sender.user ? `logged in as ${sender.user}` : 'logged in without name'
  const logIn = async () => {
    if (itself?.connected) return 'connected by just these settings now; a second connection would throw it out'
    const same = sameIdentity(target, others)
    if (same) throw fail(409, 'mqtt.same-client', same, 'A broker keeps one connection a client id: give each its own', 'destination')
    const limits = await tryLogin(sender, async (link) => limitsOf(link)).catch(async (e: unknown) => {
      throw (await whyHungUp(e, sender)) ?? e
    })
    return `${loggedIn}${limits}`
  }
  const steps: StepPlan[] = [
    ...brokerSteps(sender, 'destination'),
    { key: 'tls', label: 'TLS', run: () => shakeHands(sender) },
    ...webSocketSteps(sender),
    { key: 'login', label: 'Log-in', run: logIn },
  ]
  if (sends.length > 0) {
    steps.push({ key: 'takes', label: 'What it takes', run: () => tryLogin(sender, (link) => takes(link, sends)) })
    if (settings.protocol === '5') steps.push({ key: 'publish', label: 'Permission to publish', run: () => mayPublish(sender, sends) })
  }
  for (const at of serversOf(settings.otherHosts ?? '') ?? []) steps.push(otherHost({ ...sender, ...at }))
  if (settings.witness)
    steps.push({
      key: 'witness',
      label: 'Witness',
      run: () => tryLogin(ofCheck(witnessAccess(target)), (link) => mayRead(link, filters)),
      explain: (e) => mqttFailure(e, witnessAccess(target), 'witness'),
    })
  yield* runSteps(steps, (e) => mqttFailure(e, sender))
}
