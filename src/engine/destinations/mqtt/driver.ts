import type { MqttSettings } from '~/contract/destinations/mqtt'
import { FailureError } from '~/contract/failure'
import { unpackProperties } from '~/core/delivery/properties'
import { plainMessage } from '~/core/mqtt/publish'
import { qosOf } from '~/core/mqtt/qos'
import { reasonOf } from '~/core/mqtt/reasons'
import type { Clock } from '../../clock/clock'
import type { MqttAccess } from '../../net/mqtt-access'
import { dialMqtt } from '../../net/mqtt-dial'
import { mqttFailure } from '../../net/mqtt-failure'
import { Elsewhere, MqttLink } from '../../net/mqtt-link'
import { openSocket } from '../../net/mqtt-socket'
import type { Dial } from '../../net/wire'
import type { DestinationDriver, DestinationTarget, OpenOptions } from '../driver'
import type { FarSink } from '../far-end'
import { packetMost, senderAccess, senderGreeting, willOf, witnessAccess, witnessGreeting } from './access'
import { checkMqtt } from './check'
import { MqttFarEnd } from './far-end'
import { Hosts, referenced } from './hosts'
import { MqttSender } from './sender'
import { RunningSession } from './session'

/** How long a broker is to remember a sender unless something else is said, s: what is under way at QoS 2 is exact over a lost link only if it does. */
const EXPIRY_S = 86_400
const RECEIVE_MAXIMUM = 100

const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b)

/** MQTT 5 and 3.1.1, over wires that `dial` opens. */
export function mqttDriverOver(dial: Dial<MqttAccess>): DestinationDriver<'mqtt'> {
  return {
    carriesId: (settings: MqttSettings) => settings.protocol === '5',
    protection: ({ settings, credential }) =>
      settings.tls ? (credential?.kind === 'certificate' ? 'TLS, client certificate' : 'TLS') : 'without TLS',
    rights: ({ clientId, witnessClientId }, reads) => `of ${clientId} to publish, or of ${witnessClientId} to read ${reads[0] ?? 'its topics'}`,
    within: ({ topic }) => topic,
    manner: ({ assurance, properties }) => `${assurance} ${unpackProperties(properties).kept === true}`,
    described: ({ topic, assurance }) => `${topic.slice(0, 200)} (QoS ${qosOf[assurance]})`,
    dislikes: 'look at its permissions there, its topic, QoS, retain and size',
    sameSender: (a, b) => same(senderGreeting(a), senderGreeting(b)),
    sameWitness: (a, b) => same(witnessGreeting(a), witnessGreeting(b)),
    check: checkMqtt,
    farEnd: (target, sink: FarSink, clock: Clock, remembered) => {
      const hosts = Hosts.of(remembered, target.settings)
      return new MqttFarEnd({ dial, access: witnessAccess(target), packetMax: packetMost(target.settings), hosts, sink, clock })
    },
    open: (target, o) => openMqtt(dial, target, o),
  }
}

/** Publishes at QoS 0. */
export type Say = (topic: string, payload: Uint8Array) => void

/** What goes on beside messages on a sender's connection. */
export interface Beside {
  /** What is listened to; null: nothing. */
  filter: string | null
  heard(topic: string, payload: Uint8Array, say: Say): void
  refused(words: string): void
  /** The connection stands. */
  begun(say: Say): void
}

/** Connects as a sender; `beside` hears and says something else too. */
export async function openMqtt(
  dial: Dial<MqttAccess>,
  target: DestinationTarget<'mqtt'>,
  o: OpenOptions,
  beside: Beside | null = null,
): Promise<MqttSender> {
  const { sink, clock, session, remembered } = o
  const { settings } = target
  const hosts = Hosts.of(remembered, settings)
  const access = { ...senderAccess(target), ...hosts.current }
  const running = session && new RunningSession(session.of, session.number, sink, clock, remembered)
  const death = session?.of.death(session.number, clock.wall())
  let sender: MqttSender | null = null
  let lostWhy: unknown = null
  const explain = (why: unknown) => mqttFailure(why, { ...access, cert: null }, 'destination')
  const will = death ? { ...death, qos: 1 as const, retain: false } : willOf(settings)
  let link: MqttLink
  const say: Say = (topic, payload) => link.publish(plainMessage(topic, payload))
  try {
    link = await MqttLink.connect(
      dial,
      clock,
      {
        access,
        // An edge node begins without what was (Sparkplug 3.0 5.3); others go on where they were.
        clean: session !== null || o.anew || !hosts.goesOn,
        expiryS: session ? 0 : (settings.sessionS ?? EXPIRY_S),
        receiveMaximum: RECEIVE_MAXIMUM,
        packetMax: packetMost(settings),
        aliases: settings.aliases ?? 0,
        ...(will && { will }),
      },
      {
        greeted: () => session?.used(),
        message: (p) => {
          if (p.qos > 0) link.acknowledge(p.packetId)
          running?.message(p.topic, p.payload)
          beside?.heard(p.topic, p.payload, say)
        },
        answered: (step, id, reason, words) => sender?.answered(step, id, reason, words),
        pong: (number) => sender?.pong(number),
        drained: () => sender?.drained(),
        closed: (why) => {
          lostWhy = why
          hosts.lost()
          sentElsewhere(hosts, settings, why)
          sender?.lost()
          sink.down({ ...explain(why), hint: hintOf(why) })
        },
      },
    )
  } catch (e) {
    if (!sentElsewhere(hosts, settings, e)) hosts.failed()
    throw new FailureError(mqttFailure(e, access, 'destination'), 502)
  }
  try {
    await running?.begin(link, o.over)
    if (beside) await listenTo(link, beside)
  } catch (e) {
    link.close()
    throw e instanceof FailureError ? e : new FailureError(explain(e), 502)
  }
  if (lostWhy !== null) {
    running?.die()
    throw new FailureError(explain(lostWhy), 502)
  }
  hosts.settled()
  sender = new MqttSender(link, settings.window, sink, running, remembered)
  beside?.begun(say)
  if (hosts.away && settings.returnS > 0) sender.whenOver(lookForFirst(hosts, senderAccess(target), settings.returnS * 1000, o))
  return sender
}

async function listenTo(link: MqttLink, { filter, refused }: Beside): Promise<void> {
  if (filter === null) return
  const [reason = 0x80] = await link.subscribe([filter])
  if (reason >= 0x80) refused(reasonOf(reason).words)
}

/** Goes where the broker names another server, where that may be; gives whether the next try goes elsewhere. */
function sentElsewhere(hosts: Hosts, { redirects, tls, port }: MqttSettings, why: unknown): boolean {
  if (!(why instanceof Elsewhere)) return false
  const to = referenced(why.reference, port)
  if (!to || !(hosts.lists(to) || (redirects && tls))) return false
  return hosts.redirected(to, why.moved)
}

/** Looks now and then whether the first host answers again, and has the connection changed over to it; gives what ends it. */
function lookForFirst(hosts: Hosts, access: MqttAccess, everyMs: number, { clock, sink }: OpenOptions): () => void {
  let looking = false
  return clock.every(everyMs, () => {
    if (looking) return
    looking = true
    openSocket({ ...access, ...hosts.first }).then(
      (socket) => {
        socket.destroy()
        hosts.home()
        sink.anew()
      },
      () => {
        looking = false
      },
    )
  })
}

function hintOf(why: unknown): string {
  return why instanceof FailureError ? why.failure.hint : 'Embrik connects again; the outbox holds what comes meanwhile'
}

export const mqttDriver = mqttDriverOver(dialMqtt)
