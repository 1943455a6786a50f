import { freshOutboxTerms } from '~/contract/destinations/terms'
import { Fact } from '~/ui/Notes'
import { hostAt } from '../intake/addresses'
import { IdentityFacts } from './IdentityFacts'
import type { KindView } from './kind-view'

const ofWitness = ['readEveryMs', 'witnessCredentialId', 'lateS']

export const table: KindView<'table'> = {
  label: 'SQL table',
  example: 'Works records',
  check:
    'Tries name, port, the log-in, the tables of its publications with their columns and rights, and the witness, each by itself. Nothing is written and nothing saved by it.',
  credentials: { authorityId: ['authority'], credentialId: ['password'], witnessCredentialId: ['password'] },
  fresh: {
    host: '',
    port: 5432,
    database: '',
    tls: true,
    authorityId: null,
    credentialId: null,
    idColumn: 'embrik_id',
    make: false,
    batchMost: 500,
    batchKb: 1000,
    lingerMs: 20,
    retryMs: 1000,
    window: 2000,
    ackS: 20,
    witness: true,
    rowColumn: 'embrik_row',
    readEveryMs: 1000,
    witnessCredentialId: null,
    lateS: 30,
    ...freshOutboxTerms,
  },
  place: (s) => `${s.host}:${s.port}/${s.database}`,
  warning: (s) => (s.tls ? null : 'Without TLS: anybody in between can read and change rows.'),
  hides: (s) => [...(s.tls ? [] : ['authorityId']), ...(s.witness ? [] : ofWitness)],
  witnessed: (s) => s.witness,
  filled: (address) => ({ ...hostAt(address) }),
  SenderFacts: ({ settings: s, credential }) => (
    <>
      <Fact name="Database">{s.database}</Fact>
      <IdentityFacts credential={credential} identity={s.credentialId} authority={s.authorityId} />
      <Fact name="Id in">{s.idColumn === '' ? 'no column' : s.idColumn}</Fact>
      <Fact name="What is missing" mono={false}>
        {s.make ? 'tables and columns are made' : 'is told, and waits'}
      </Fact>
      <Fact name="Statements">
        up to {s.batchMost} messages, {s.batchKb} kB, or {s.lingerMs} ms
      </Fact>
    </>
  ),
  WitnessFacts: ({ settings: s, credential }) => (
    <>
      <Fact name="Finds rows by">{s.rowColumn}</Fact>
      <Fact name="Knows by" mono={false}>
        {s.idColumn === '' ? 'table and values' : 'id and values'}
      </Fact>
      <IdentityFacts credential={credential} identity={s.witnessCredentialId ?? s.credentialId} />
    </>
  ),
}
