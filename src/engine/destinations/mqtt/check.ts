import type { CheckStep } from '~/contract/failure'
import { fail } from '~/contract/failure'
import { reasonOf } from '~/core/mqtt/reasons'
import { realClock } from '../../clock/real-clock'
import { type MqttAccess, mqttFailure, tlsFacts } from '../../net/mqtt-access'
import { dialMqtt } from '../../net/mqtt-dial'
import { MqttLink } from '../../net/mqtt-link'
import { reachSteps, runSteps } from '../../net/steps'
import type { DestinationTarget } from '../driver'
import { senderAccess, witnessAccess } from './access'

/** Logs in with a client id of its own: the one in use must not be thrown off the broker by a check. */
async function tryLogin<T>(a: MqttAccess, then: (link: MqttLink) => Promise<T>): Promise<T> {
  const probe = { ...a, clientId: `${a.clientId}-check` }
  const link = await MqttLink.connect(
    dialMqtt,
    realClock,
    { access: probe, clean: true, expiryS: 0, receiveMaximum: 100 },
    { message: (p) => p.qos > 0 && link.acknowledge(p.packetId), closed: () => undefined },
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

/** Tries everything in order; sends nothing, saves nothing. */
export async function* checkMqtt(target: DestinationTarget, filters: readonly string[]): AsyncGenerator<CheckStep> {
  const { settings } = target
  const sender = senderAccess(target)
  const loggedIn = sender.cert ? 'the broker takes the client certificate' : sender.user ? `logged in as ${sender.user}` : 'logged in without name'
  yield* runSteps(
    [
      ...reachSteps(settings.host, settings.port, 'destination'),
      { key: 'tls', label: 'TLS', run: () => tlsFacts(sender) },
      { key: 'login', label: 'Log-in', run: async () => `${loggedIn}${await tryLogin(sender, async (link) => limitsOf(link))}` },
      ...(settings.witness
        ? [
            {
              key: 'witness',
              label: 'Witness',
              run: () => tryLogin(witnessAccess(target), (link) => mayRead(link, filters)),
              explain: (e: unknown) => mqttFailure(e, witnessAccess(target), 'witness'),
            },
          ]
        : []),
    ],
    (e) => mqttFailure(e, sender),
  )
}
