import { type Failure, type FailureError, fail } from '~/contract/failure'
import type { MqttAccess } from './mqtt-access'
import { mqttFailure } from './mqtt-failure'
import { openSocket, openWire, speaksTls } from './mqtt-socket'
import { reachSteps, type StepPlan } from './steps'

const at = ({ host, port }: { host: string; port: number }) => `${host}:${port}`

/** The way to a broker: its name and port, or those of the proxy, and then what the proxy says to the broker's. */
export function brokerSteps(a: MqttAccess, where: Failure['where']): StepPlan[] {
  const { proxy } = a
  if (!proxy) return reachSteps(a.host, a.port, where)
  const beyond: StepPlan = {
    key: 'proxy',
    label: 'Through the proxy',
    run: async () => {
      const socket = await openSocket({ ...a, tls: false })
      socket.destroy()
      return `${at(proxy)} lets us through to ${at(a)}${proxy.user === null ? '' : `, as ${proxy.user}`}`
    },
  }
  const [name, port] = reachSteps(proxy.host, proxy.port, where)
  return [{ ...name!, label: 'Name of the proxy' }, { ...port!, label: 'Port of the proxy' }, beyond]
}

/** What is to be told where TLS is spoken and switched off here; null: that is not so. */
export async function tlsWanted(a: MqttAccess): Promise<FailureError | null> {
  if (a.tls || !(await speaksTls(a))) return null
  return fail(
    502,
    'tls.wanted',
    `Port ${a.port} of ${a.host} speaks TLS, and TLS is switched off here`,
    'Switch TLS on, or take the plain port (often 1883)',
    'destination',
  )
}

/** Whether the broker takes WebSockets at the path; nothing for who comes without. */
export function webSocketSteps(a: MqttAccess): StepPlan[] {
  if (a.transport !== 'websocket') return []
  const run = async () => {
    const wire = await openWire(a).catch(async (e: unknown) => {
      const cut = mqttFailure(e, a).code === 'mqtt.reset'
      throw (cut && (await tlsWanted(a))) || e
    })
    wire.destroy()
    return `taken at ${a.path}, for MQTT`
  }
  return [{ key: 'websocket', label: 'WebSocket', run }]
}
