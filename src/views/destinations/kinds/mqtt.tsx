import { freshBroker } from '~/contract/destinations/mqtt'
import { freshOutboxTerms } from '~/contract/destinations/terms'
import { Fact } from '~/ui/Notes'
import { brokerAt } from '../intake/addresses'
import { IdentityFacts } from './IdentityFacts'
import type { KindView } from './kind-view'

const ofWebSocket = ['path', 'headers']
const ofWill = ['willPayload', 'willQos', 'willRetain', 'willDelayS']
/** What MQTT 3.1.1 does not know. */
const onlyIn5 = ['sessionS', 'aliases', 'packetKb', 'willDelayS', 'redirects']
const ofWitness = ['witnessClientId', 'witnessCredentialId', 'lateS']

export const mqtt: KindView<'mqtt'> = {
  label: 'MQTT broker',
  example: 'Site broker',
  check: 'Tries name, port, TLS, the log-in and the witness, each by itself. Nothing is sent and nothing saved by it.',
  credentials: {
    authorityId: ['authority'],
    credentialId: ['certificate', 'password', 'token'],
    witnessCredentialId: ['certificate', 'password', 'token'],
    proxyCredentialId: ['password'],
  },
  fresh: {
    host: '',
    port: 8883,
    protocol: '5',
    tls: true,
    authorityId: null,
    clientId: 'embrik',
    credentialId: null,
    keepAliveS: 30,
    retryMs: 1000,
    window: 200,
    ackS: 20,
    witness: true,
    witnessClientId: 'embrik-witness',
    witnessCredentialId: null,
    lateS: 30,
    ...freshOutboxTerms,
    ...freshBroker,
  },
  folded: ['Other hosts', 'Proxy', 'Session', 'Last will'],
  place: (s) =>
    s.transport === 'websocket' ? `${s.tls ? 'wss' : 'ws'}://${s.host}:${s.port}${s.path}` : `${s.tls ? 'mqtts' : 'mqtt'}://${s.host}:${s.port}`,
  warning: (s) => (s.tls ? null : 'Without TLS: anybody in between can read and change messages.'),
  hides: (s) => [
    ...(s.tls ? [] : ['authorityId']),
    ...(s.witness ? [] : ofWitness),
    ...(s.transport === 'websocket' ? [] : ofWebSocket),
    ...(s.otherHosts === '' ? ['returnS'] : []),
    ...(s.proxy === '' ? ['proxyCredentialId'] : []),
    ...(s.willTopic === '' ? ofWill : []),
    ...(s.protocol === '5' ? [] : onlyIn5),
  ],
  witnessed: (s) => s.witness,
  filled: (address) => ({ ...brokerAt(address), ...(address.identity !== null && { clientId: address.identity }) }),
  SenderFacts: ({ settings: s, credential }) => (
    <>
      <Fact name="Client id">{s.clientId}</Fact>
      <IdentityFacts credential={credential} identity={s.credentialId} authority={s.authorityId} />
      <Fact name="In flight">up to {s.window}</Fact>
      {s.proxy && <Fact name="Through">{s.proxy}</Fact>}
      {s.otherHosts && <Fact name="Else">{s.otherHosts}</Fact>}
      {s.willTopic && <Fact name="Last will">{s.willTopic}</Fact>}
    </>
  ),
  WitnessFacts: ({ settings: s, credential }) => (
    <>
      <Fact name="Client id">{s.witnessClientId}</Fact>
      <IdentityFacts credential={credential} identity={s.witnessCredentialId} />
    </>
  ),
}
