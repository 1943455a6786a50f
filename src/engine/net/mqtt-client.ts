import type { Socket } from 'node:net'
import mqtt, { type IClientOptions, type MqttClient } from 'mqtt'
import { type Failure, FailureError } from '~/contract/failure'
import { gatherWrites } from './gather'
import { connackFailure, type MqttAccess, mqttFailure, tlsOptions } from './mqtt-access'

export interface ConnectedClient {
  client: MqttClient
  /** How many messages of QoS 1 and 2 the broker takes at once (MQTT 5 3.2.2.3.3). */
  receiveMaximum: number
  /** Marks the end as meant: `onLost` is not called for it. */
  close(): Promise<void>
}

/** Connects once; rejects with a FailureError that says why not, and tells when the link is lost. Coming back is a supervisor's work. */
export async function connectMqtt(
  a: MqttAccess,
  where: Failure['where'],
  onLost: (failure: Failure) => void,
  prepare?: (client: MqttClient) => void,
  will?: { topic: string; payload: Uint8Array },
): Promise<ConnectedClient> {
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
    ...(will && { will: { topic: will.topic, payload: Buffer.from(will.payload), qos: 1, retain: false } }),
  }
  const client = mqtt.connect(options)
  prepare?.(client)
  // Small packets must not wait for the acknowledgement of the ones before (RFC 896).
  client.once('connect', () => {
    const socket = client.stream as unknown as Socket
    socket.setNoDelay(true)
    gatherWrites(socket)
  })
  let over = false
  let lastError: unknown = null
  const reset = () => Object.assign(new Error('closed'), { code: 'ECONNRESET' })
  const receiveMaximum = await new Promise<number>((done, failed) => {
    client.once('connect', (connack) => done(connack.properties?.receiveMaximum ?? 65_535))
    client.on('error', (e) => {
      lastError = e
      const code = (e as { code?: unknown }).code
      failed(typeof code === 'number' ? connackFailure(code) : e)
    })
    client.once('close', () => failed(lastError ?? reset()))
  }).catch((e: unknown) => {
    client.end(true)
    throw new FailureError(mqttFailure(e, a, where), 502)
  })
  client.on('close', () => {
    if (over) return
    over = true
    onLost(mqttFailure(lastError ?? reset(), { ...a, cert: null }, where))
  })
  client.on('disconnect', (packet) => {
    lastError = packet.reasonCode === 0x8e ? new FailureError(taken(a.clientId)) : connackFailure(packet.reasonCode ?? 128)
  })
  return {
    client,
    receiveMaximum,
    close: async () => {
      over = true
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

function taken(clientId: string): Failure {
  return {
    code: 'mqtt.taken-over',
    message: `Another connection uses the client id ${clientId}`,
    hint: 'A broker keeps one connection a client id: give each its own',
    where: 'destination',
  }
}
