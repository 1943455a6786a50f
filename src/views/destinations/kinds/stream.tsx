import { freshOutboxTerms } from '~/contract/destinations/terms'
import { serversOf } from '~/contract/place'
import { Fact } from '~/ui/Notes'
import { inAddress } from '../intake/addresses'
import { IdentityFacts } from './IdentityFacts'
import type { KindView } from './kind-view'

const ofWitness = ['witnessCredentialId', 'lateS']
const ways = { all: 'all copies that are up, each message once', leader: 'the leader alone' } as const

export const stream: KindView<'stream'> = {
  label: 'Stream',
  example: 'Works stream',
  check:
    'Tries name, port, TLS, the log-in, every node that the cluster names, its topics and the witness, each by itself. Nothing is sent and nothing saved by it.',
  credentials: {
    authorityId: ['authority'],
    credentialId: ['password', 'certificate', 'token'],
    witnessCredentialId: ['password', 'certificate', 'token'],
    registryAuthorityId: ['authority'],
    registryCredentialId: ['password', 'token'],
  },
  fresh: {
    servers: '',
    tls: true,
    authorityId: null,
    clientId: 'embrik',
    mechanism: 'none',
    credentialId: null,
    acks: 'all',
    compression: 'none',
    lingerMs: 5,
    batchKb: 256,
    retryMs: 1000,
    window: 2000,
    ackS: 20,
    witness: true,
    witnessCredentialId: null,
    registryUrl: '',
    registryAuthorityId: null,
    registryCredentialId: null,
    lateS: 30,
    ...freshOutboxTerms,
  },
  place: (s) => (serversOf(s.servers) ?? []).map(({ host, port }) => `${host}:${port}`).join(', '),
  warning: (s) =>
    s.tls
      ? null
      : `Without TLS: anybody in between can read and change messages${s.mechanism === 'PLAIN' ? ', and reads the password, which PLAIN sends as it is' : ''}.`,
  hides: (s) => [
    ...(s.tls ? [] : ['authorityId']),
    ...(s.tls || s.mechanism !== 'none' ? [] : ['credentialId', 'witnessCredentialId']),
    ...(s.witness ? [] : ofWitness),
    ...(s.registryUrl ? [] : ['registryAuthorityId', 'registryCredentialId']),
  ],
  witnessed: (s) => s.witness,
  filled: ({ host, port }) => (host && port ? { servers: `${inAddress(host)}:${port}` } : {}),
  SenderFacts: ({ settings: s, credential }) => (
    <>
      <Fact name="Client id">{s.clientId}</Fact>
      <IdentityFacts credential={credential} identity={s.credentialId} authority={s.authorityId} />
      <Fact name="Log-in by">{s.mechanism}</Fact>
      <Fact name="Acknowledged by" mono={false}>
        {ways[s.acks]}
      </Fact>
      <Fact name="Compression">{s.compression}</Fact>
      <Fact name="Batches">
        up to {s.batchKb} kB, or {s.lingerMs} ms
      </Fact>
      <Fact name="In flight">up to {s.window}</Fact>
      {s.registryUrl && <Fact name="Schema registry">{s.registryUrl.replace(/^https?:\/\//, '')}</Fact>}
    </>
  ),
  WitnessFacts: ({ settings: s, credential }) => (
    <>
      <Fact name="Reads" mono={false}>
        all partitions, in no group
      </Fact>
      <IdentityFacts credential={credential} identity={s.witnessCredentialId} />
    </>
  ),
}
