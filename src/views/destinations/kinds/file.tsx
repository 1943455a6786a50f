import { freshOutboxTerms } from '~/contract/destinations/terms'
import { Fact } from '~/ui/Notes'
import { IdentityFacts } from './IdentityFacts'
import type { KindView } from './kind-view'

const ofObjects = ['url', 'bucket', 'bucketInHost', 'region', 'authorityId', 'credentialId', 'partMb', 'witnessCredentialId']
const ofWitness = ['lookEveryS', 'witnessCredentialId', 'lateS']
const formats = { ndjson: 'lines of JSON', csv: 'CSV with a header', parquet: 'Parquet' }

export const file: KindView<'file'> = {
  label: 'Files',
  example: 'Works lake',
  check:
    'Tries the folder, or name, port, TLS and bucket of the store, whether files can be written where its publications go, and the witness, each by itself. What it writes it takes away again.',
  credentials: { authorityId: ['authority'], credentialId: ['password'], witnessCredentialId: ['password'] },
  fresh: {
    store: 'folder',
    folder: '',
    url: '',
    bucket: '',
    bucketInHost: false,
    region: 'us-east-1',
    authorityId: null,
    credentialId: null,
    format: 'ndjson',
    compression: 'none',
    idColumn: 'embrik_id',
    filesMost: 10_000,
    fileMb: 16,
    ageS: 60,
    partMb: 16,
    retryMs: 1000,
    window: 20_000,
    ackS: 60,
    witness: true,
    lookEveryS: 600,
    witnessCredentialId: null,
    lateS: 180,
    ...freshOutboxTerms,
  },
  place: (s) =>
    s.store === 'folder'
      ? `/${s.folder}`
      : `${s.url.replace(/^https?:\/\//, '').replace(/\/$/, '')}/${s.bucket}${s.folder === '' ? '' : `/${s.folder}`}`,
  warning: (s) =>
    s.store === 'objects' && !s.url.startsWith('https:') && s.url !== '' ? 'Without TLS: anybody in between can read and change objects.' : null,
  hides: (s) => [...(s.store === 'folder' ? ofObjects : s.url.startsWith('http:') ? ['authorityId'] : []), ...(s.witness ? [] : ofWitness)],
  witnessed: (s) => s.witness,
  SenderFacts: ({ settings: s, credential }) => (
    <>
      <Fact name={s.store === 'folder' ? 'Folder' : 'Bucket'}>{s.store === 'folder' ? s.folder : `${s.bucket}/${s.folder}`}</Fact>
      {s.store === 'objects' && <IdentityFacts credential={credential} identity={s.credentialId} authority={s.authorityId} />}
      <Fact name="Format" mono={false}>
        {formats[s.format]}
        {s.compression === 'none' ? '' : `, ${s.compression}`}
      </Fact>
      <Fact name="Id in">{s.idColumn === '' ? 'no column' : s.idColumn}</Fact>
      <Fact name="A file is finished" mono={false}>
        with {s.filesMost} messages, {s.fileMb} MB, or after {s.ageS} s
      </Fact>
    </>
  ),
  WitnessFacts: ({ settings: s, credential }) => (
    <>
      <Fact name="Reads" mono={false}>
        finished files again, row by row
      </Fact>
      <Fact name="Knows by" mono={false}>
        {s.idColumn === '' ? 'path and values' : 'id and values'}
      </Fact>
      {s.store === 'objects' && <IdentityFacts credential={credential} identity={s.witnessCredentialId ?? s.credentialId} />}
    </>
  ),
}
