import type { Socket } from 'node:net'
import type { TLSSocket } from 'node:tls'
import mqtt, { type IClientOptions, type MqttClient } from 'mqtt'
import { type Failure, FailureError } from '~/contract/failure'
import { ID_PROPERTY } from '~/core/delivery/envelope'
import { gatherWrites } from '../../net/gather'
import { connackFailure, type MqttAccess, mqttFailure, openSocket, tlsOptions } from '../../net/mqtt-access'
import { reachSteps, runSteps } from '../../net/steps'
import { MqttReader } from '../../witness/reader'
import type { DestinationConnection, DestinationDriver, DestinationTarget } from '../driver'

/** Octets in the socket's buffer beyond which the wire counts as full. */
const FULL = 1 << 20

/** How the sender connects. */
export function senderAccess(t: DestinationTarget): MqttAccess {
  return access(t, t.credential, t.settings.clientId)
}

/** How the witness connects: by credentials and a client id of its own. */
export function witnessAccess(t: DestinationTarget): MqttAccess {
  return access(t, t.witnessCredential, t.settings.witnessClientId)
}

function access(t: DestinationTarget, c: DestinationTarget['credential'], clientId: string): MqttAccess {
  const certificate = c?.kind === 'certificate'
  return {
    host: t.settings.host,
    port: t.settings.port,
    protocol: t.settings.protocol,
    tls: t.settings.tls,
    ca: t.authority?.certificate ?? null,
    cert: certificate ? c.certificate : null,
    key: certificate ? c.secret : null,
    user: c?.kind === 'password' ? c.user : null,
    password: c?.kind === 'password' ? c.secret : null,
    clientId,
    keepAliveS: t.settings.keepAliveS,
  }
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
          run: async () => {
            if (!settings.tls) return 'switched off: anybody in between can read and change messages'
            const socket = (await openSocket(sender)) as TLSSocket
            const certificate = socket.getPeerCertificate()
            const version = socket.getProtocol()
            socket.destroy()
            const days = Math.floor((Date.parse(certificate.valid_to) - Date.now()) / 86_400_000)
            return `${version}; ${certificate.subject?.CN ?? 'the broker'}, signed by ${certificate.issuer?.CN ?? '?'}, ${days} days left`
          },
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

  async open(target, sink) {
    const a = senderAccess(target)
    const five = a.protocol === '5'
    const options: IClientOptions = {
      ...tlsOptions(a),
      host: a.host,
      port: a.port,
      protocol: a.tls ? 'mqtts' : 'mqtt',
      protocolVersion: five ? 5 : 4,
      clientId: a.clientId,
      clean: true,
      keepalive: a.keepAliveS,
      connectTimeout: 10_000,
      // The supervisor comes back by itself, and the outbox knows what to send again.
      reconnectPeriod: 0,
      resubscribe: false,
      // A ping now and then costs less than moving its timer at every message.
      reschedulePings: false,
      // Its log is for those who debug the library: switched off it still costs a twentieth of the sending.
      log: () => undefined,
      queueQoSZero: false,
      ...(a.user !== null && { username: a.user }),
      ...(a.password !== null && { password: a.password }),
      ...(five && { properties: { sessionExpiryInterval: 0 } }),
    }
    const client = mqtt.connect(options)
    // Small packets must not wait for the acknowledgement of the ones before (RFC 896).
    client.once('connect', () => {
      const socket = client.stream as unknown as Socket
      socket.setNoDelay(true)
      gatherWrites(socket)
    })
    let over = false
    let lastError: unknown = null
    const receiveMaximum = await new Promise<number>((done, failed) => {
      client.once('connect', (connack) => done(connack.properties?.receiveMaximum ?? 65_535))
      client.on('error', (e) => {
        lastError = e
        const code = (e as { code?: unknown }).code
        failed(typeof code === 'number' ? connackFailure(code) : e)
      })
      client.once('close', () => failed(lastError ?? Object.assign(new Error('closed'), { code: 'ECONNRESET' })))
    }).catch((e: unknown) => {
      client.end(true)
      throw new FailureError(mqttFailure(e, a), 502)
    })
    client.on('close', () => {
      if (over) return
      over = true
      sink.down({
        ...mqttFailure(lastError ?? Object.assign(new Error('closed'), { code: 'ECONNRESET' }), { ...a, cert: null }),
        hint: 'Embrik connects again; the outbox holds what comes meanwhile',
      })
    })
    client.on('disconnect', (packet) => {
      lastError = packet.reasonCode === 0x8e ? new FailureError(taken(a.clientId)) : connackFailure(packet.reasonCode ?? 128)
    })
    return connection(client, five, Math.min(target.settings.window, receiveMaximum), () => {
      over = true
    })
  },
}

function taken(clientId: string): Failure {
  return {
    code: 'mqtt.taken-over',
    message: `Another connection uses the client id ${clientId}`,
    hint: 'A broker keeps one connection a client id: give each its own',
    where: 'destination',
  }
}

function connection(client: MqttClient, five: boolean, window: number, markOver: () => void): DestinationConnection {
  return {
    window,
    send(envelope, id, done) {
      const payload =
        typeof envelope.payload === 'string'
          ? envelope.payload
          : Buffer.from(envelope.payload.buffer, envelope.payload.byteOffset, envelope.payload.byteLength)
      client.publish(
        envelope.topic,
        payload,
        {
          qos: envelope.qos,
          retain: envelope.retain,
          ...(five && { properties: { payloadFormatIndicator: true, contentType: 'application/json', userProperties: { [ID_PROPERTY]: id } } }),
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
    async close() {
      markOver()
      await new Promise<void>((done) => {
        const timer = setTimeout(done, 1000)
        client.end(true, () => {
          clearTimeout(timer)
          done()
        })
      })
    },
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
