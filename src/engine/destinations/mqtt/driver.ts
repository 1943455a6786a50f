import type { MqttSettings } from '~/contract/destinations/mqtt'
import { FailureError } from '~/contract/failure'
import { unpackProperties } from '~/core/delivery/properties'
import { qosOf } from '~/core/mqtt/qos'
import type { Clock } from '../../clock/clock'
import { type MqttAccess, mqttFailure } from '../../net/mqtt-access'
import { dialMqtt } from '../../net/mqtt-dial'
import { MqttLink } from '../../net/mqtt-link'
import type { Dial } from '../../net/wire'
import type { DestinationDriver, DestinationTarget, OpenOptions } from '../driver'
import type { FarSink } from '../far-end'
import { senderAccess, witnessAccess } from './access'
import { checkMqtt } from './check'
import { MqttFarEnd } from './far-end'
import { MqttSender } from './sender'
import { RunningSession } from './session'

/** How long a broker is to remember a sender, s: what is under way at QoS 2 is exact over a lost link only if it does. */
const EXPIRY_S = 86_400
const RECEIVE_MAXIMUM = 100

const same = (a: MqttAccess, b: MqttAccess) => JSON.stringify(a) === JSON.stringify(b)

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
    sameSender: (a, b) => same(senderAccess(a), senderAccess(b)),
    sameWitness: (a, b) => same(witnessAccess(a), witnessAccess(b)),
    check: checkMqtt,
    farEnd: (target: DestinationTarget<'mqtt'>, sink: FarSink, clock: Clock) => new MqttFarEnd(dial, witnessAccess(target), sink, clock),
    open: (target, o) => open(dial, target, o),
  }
}

async function open(dial: Dial<MqttAccess>, target: DestinationTarget<'mqtt'>, o: OpenOptions): Promise<MqttSender> {
  const { sink, clock, session, remembered } = o
  const access = senderAccess(target)
  const running = session && new RunningSession(session.of, session.number, sink, clock, remembered)
  const death = session?.of.death(session.number, clock.wall())
  let sender: MqttSender | null = null
  let lostWhy: unknown = null
  const explain = (why: unknown) => mqttFailure(why, { ...access, cert: null }, 'destination')
  let link: MqttLink
  try {
    link = await MqttLink.connect(
      dial,
      clock,
      {
        access,
        // An edge node begins without what was (Sparkplug 3.0 5.3); others go on where they were.
        clean: session !== null || o.anew,
        expiryS: session ? 0 : EXPIRY_S,
        receiveMaximum: RECEIVE_MAXIMUM,
        ...(death && { will: { ...death, qos: 1 as const, retain: false } }),
      },
      {
        greeted: () => session?.used(),
        message: (p) => {
          if (p.qos > 0) link.acknowledge(p.packetId)
          running?.message(p.topic, p.payload)
        },
        answered: (step, id, reason, words) => sender?.answered(step, id, reason, words),
        pong: (number) => sender?.pong(number),
        drained: () => sender?.drained(),
        closed: (why) => {
          lostWhy = why
          sender?.lost()
          sink.down({ ...explain(why), hint: hintOf(why) })
        },
      },
    )
  } catch (e) {
    throw new FailureError(mqttFailure(e, access, 'destination'), 502)
  }
  try {
    await running?.begin(link, o.over)
  } catch (e) {
    link.close()
    throw e instanceof FailureError ? e : new FailureError(explain(e), 502)
  }
  if (lostWhy !== null) {
    running?.die()
    throw new FailureError(explain(lostWhy), 502)
  }
  sender = new MqttSender(link, target.settings.window, sink, running, remembered)
  return sender
}

function hintOf(why: unknown): string {
  return why instanceof FailureError ? why.failure.hint : 'Embrik connects again; the outbox holds what comes meanwhile'
}

export const mqttDriver = mqttDriverOver(dialMqtt)
