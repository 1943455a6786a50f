import { freshReach } from '~/contract/broker-reach'
import { filtersOf } from '~/contract/sources/mqtt'
import { Fact } from '~/ui/Notes'
import { brokerAt } from '../../destinations/intake/addresses'
import type { KindView } from './kind-view'

export const mqtt: KindView<'mqtt'> = {
  label: 'MQTT topics',
  note: 'Devices that publish on a broker by themselves: JSON, bare values, Sparkplug B',
  check: 'Tries name, port, TLS, the log-in, and whether the broker lets us listen on the topics. Nothing is saved by it.',
  tags: { page: '/sources/topics', label: 'Listen and add tags' },
  measured: true,
  credentials: ['password', 'certificate', 'token'],
  fresh: {
    host: '',
    port: 8883,
    protocol: '5',
    tls: true,
    authorityId: null,
    clientId: 'embrik-collector',
    credentialId: null,
    filters: '',
    timeField: '',
    qualityField: '',
    staleS: 60,
    keepAliveS: 30,
    retryMs: 1000,
    ...freshReach,
  },
  folded: ['Proxy'],
  place: (s) => `${s.host}:${s.port}${s.transport === 'websocket' ? s.path : ''}`,
  warning: (s) => (s.tls ? null : 'Without TLS: anybody in between can read messages and the log-in.'),
  hides: (s) => [
    ...(s.tls ? [] : ['authorityId']),
    ...(s.transport === 'websocket' ? [] : ['path', 'headers']),
    ...(s.proxy === '' ? ['proxyCredentialId'] : []),
  ],
  secret: () => null,
  filled: (address) => ({ ...brokerAt(address), ...(address.identity !== null && { clientId: address.identity }) }),
  Facts: ({ settings: s }) => (
    <>
      <Fact name="Listens on">{filtersOf(s.filters).join(', ')}</Fact>
      <Fact name="Client id">{s.clientId}</Fact>
      <Fact name="Stale after">{s.staleS === 0 ? 'never' : `${s.staleS} s without a message`}</Fact>
    </>
  ),
  Beside: () => (
    <p className="mt-3 text-muted">
      Certificates and log-ins are kept under{' '}
      <a className="text-slate underline" href="/destinations/credentials">
        Credentials
      </a>
      .
    </p>
  ),
}
