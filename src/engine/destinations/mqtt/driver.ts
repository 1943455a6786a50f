import type { IClientPublishOptions, MqttClient } from 'mqtt'
import type { Failure } from '~/contract/failure'
import { type Envelope, ID_PROPERTY } from '~/core/delivery/envelope'
import { plainJson, unpackProperties } from '~/core/delivery/properties'
import { NAMESPACE } from '~/core/shape/sparkplug-metric'
import { accessOf, type MqttAccess, mqttFailure, tlsFacts } from '../../net/mqtt-access'
import { connectMqtt } from '../../net/mqtt-client'
import { reachSteps, runSteps } from '../../net/steps'
import { MqttReader } from '../../witness/reader'
import type { DestinationConnection, DestinationDriver, DestinationTarget } from '../driver'
import { beginSession, type RunningSession } from './session'

/** Octets in the socket's buffer beyond which the wire counts as full. */
const FULL = 1 << 20

/** How the sender connects. */
export function senderAccess(t: DestinationTarget): MqttAccess {
  return accessOf(t.settings, t.authority, t.credential, t.settings.clientId)
}

/** How the witness connects: by credentials and a client id of its own. */
export function witnessAccess(t: DestinationTarget): MqttAccess {
  return accessOf(t.settings, t.authority, t.witnessCredential, t.settings.witnessClientId)
}

/** MQTT 5 and 3.1.1 over TCP or TLS (OASIS MQTT 5.0 and 3.1.1). */
export const mqttDriver: DestinationDriver = {
  carriesId: (settings) => settings.protocol === '5',

  async *check(target, filters) {
    const { settings } = target
    const sender = senderAccess(target)
    const explain = (e: unknown) => mqttFailure(e, sender)
    const tryLogin = async (a: MqttAccess, then: (reader: MqttReader) => Promise<void>) => {
      // A client id of its own: the one in use must not be thrown off the broker by a check.
      const probe = { ...a, clientId: `${a.clientId}-check` }
      const { reader } = await MqttReader.connect(probe, { message: () => undefined, closed: () => undefined }, false)
      try {
        await then(reader)
      } finally {
        reader.close()
      }
    }
    yield* runSteps(
      [
        ...reachSteps(settings.host, settings.port, 'destination'),
        {
          key: 'tls',
          label: 'TLS',
          run: () => tlsFacts(sender),
        },
        {
          key: 'login',
          label: 'Log-in',
          run: async () => {
            await tryLogin(sender, async () => undefined)
            return sender.cert ? 'the broker takes the client certificate' : sender.user ? `logged in as ${sender.user}` : 'logged in without name'
          },
        },
        ...(settings.witness
          ? [
              {
                key: 'witness',
                label: 'Witness',
                run: async () => {
                  const witness = witnessAccess(target)
                  await tryLogin(witness, (reader) => reader.subscribe(filters))
                  return filters.length > 0 ? `may read ${filters.join(', ')}` : 'logged in; what it may read shows at the first go-live'
                },
                explain: (e: unknown) => mqttFailure(e, witnessAccess(target), 'witness'),
              },
            ]
          : []),
      ],
      explain,
    )
  },

  async open(target, sink, session) {
    const a = senderAccess(target)
    const { client, receiveMaximum, close } = await connectMqtt(
      a,
      'destination',
      (failure) => sink.down({ ...failure, hint: 'Embrik connects again; the outbox holds what comes meanwhile' }),
      undefined,
      session?.of.death(session.number, Date.now()),
    )
    const five = a.protocol === '5'
    const window = Math.min(target.settings.window, receiveMaximum)
    if (!session) return connection(client, five, window, close, null)
    try {
      return connection(client, five, window, close, await beginSession(client, session.of, session.number, sink))
    } catch (e) {
      await close()
      throw e
    }
  },
}

function connection(
  client: MqttClient,
  five: boolean,
  window: number,
  close: () => Promise<void>,
  session: RunningSession | null,
): DestinationConnection {
  return {
    window,
    send(envelope, id, done) {
      const numbered = session && envelope.topic.startsWith(`${NAMESPACE}/`) ? session.number(envelope.payload) : envelope.payload
      const payload = typeof numbered === 'string' ? numbered : Buffer.from(numbered.buffer, numbered.byteOffset, numbered.byteLength)
      client.publish(
        envelope.topic,
        payload,
        {
          qos: envelope.qos,
          retain: envelope.retain,
          ...(five && { properties: propertiesOf(envelope, id) }),
        },
        (error) => {
          if (!error) return done(null)
          const reason = (error as { code?: unknown }).code
          // Only a reason code of the broker is a refusal; everything else means the link is going down.
          if (typeof reason === 'number' && reason >= 0x80) done(refusal(reason, envelope.topic))
        },
      )
    },
    ready(onReady) {
      const stream = client.stream as unknown as { writableLength: number; once(e: 'drain', f: () => void): void }
      if (stream.writableLength < FULL) return true
      stream.once('drain', onReady)
      return false
    },
    close,
  }
}

/** Properties of a PUBLISH (MQTT 5 3.3.2.3). What waited in the outbox has less of its time left. */
function propertiesOf(envelope: Envelope, id: string): NonNullable<IClientPublishOptions['properties']> {
  if (envelope.properties === '') return { payloadFormatIndicator: true, contentType: plainJson.contentType, userProperties: { [ID_PROPERTY]: id } }
  const p = unpackProperties(envelope.properties)
  const userProperties: Record<string, string | string[]> = { [ID_PROPERTY]: id }
  for (const [name, value] of p.headers) {
    const before = userProperties[name]
    userProperties[name] = before === undefined ? value : Array.isArray(before) ? [...before, value] : [before, value]
  }
  return {
    payloadFormatIndicator: !p.binary,
    contentType: p.contentType,
    userProperties,
    ...(p.responseTopic !== '' && { responseTopic: p.responseTopic }),
    ...(p.expiryS !== null && { messageExpiryInterval: Math.max(1, p.expiryS - Math.floor((Date.now() - envelope.producedAt) / 1000)) }),
  }
}

/** PUBACK and PUBREC reasons: MQTT 5 3.4.2.1. */
function refusal(reason: number, topic: string): Failure {
  const words: Record<number, [string, string]> = {
    135: ['not allowed to publish there', 'Give the certificate or log-in that permission at the broker'],
    144: ['the broker does not accept this topic', 'Change the topic template'],
    151: ['a quota of the broker is used up', 'Send less, or raise the quota there'],
    153: ['the payload is not in the format it claims', 'Report this: the payload should be UTF-8'],
  }
  const [why, hint] = words[reason] ?? [`reason ${reason}`, "The broker's log may tell more"]
  return { code: `mqtt.refused-${reason}`, message: `${topic} was refused: ${why}`, hint, where: 'destination' }
}
