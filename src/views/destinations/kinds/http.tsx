import { webAddress } from '~/contract/destinations/http'
import { freshOutboxTerms } from '~/contract/destinations/terms'
import { Fact } from '~/ui/Notes'
import { webAt } from '../intake/addresses'
import { IdentityFacts } from './IdentityFacts'
import type { KindView } from './kind-view'

const many = ['batchMost', 'batchKb', 'lingerMs', 'answersAt', 'answerStatus', 'answerReason']
const answers = ['answerStatus', 'answerReason']
const oauth = ['tokenUrl', 'scope']
const ofWitness = [
  'readUrl',
  'readItems',
  'readCursor',
  'readId',
  'readPlace',
  'readPayload',
  'readBase64',
  'readEveryMs',
  'witnessCredentialId',
  'lateS',
]
const holds = { one: 'one message', array: 'many, as a JSON array', lines: 'many, as lines of JSON' } as const

export const http: KindView<'http'> = {
  label: 'HTTP',
  example: 'Works receiver',
  check:
    'Tries name, port, TLS, the token, the log-in, the paths of its publications and the witness, each by itself. Nothing is sent and nothing saved by it.',
  credentials: {
    authorityId: ['authority'],
    credentialId: ['password', 'certificate', 'token'],
    witnessCredentialId: ['password', 'certificate', 'token'],
  },
  fresh: {
    url: '',
    authorityId: null,
    redirects: false,
    loginBy: 'none',
    credentialId: null,
    tokenUrl: '',
    scope: '',
    batch: 'one',
    batchMost: 100,
    batchKb: 256,
    lingerMs: 50,
    answersAt: '',
    answerStatus: '/status',
    answerReason: '/error',
    compression: 'none',
    parallel: 4,
    retryMs: 1000,
    window: 1000,
    ackS: 20,
    witness: false,
    readUrl: '',
    readItems: '/items',
    readCursor: '/next',
    readId: '/id',
    readPlace: '',
    readPayload: '',
    readBase64: false,
    readEveryMs: 1000,
    witnessCredentialId: null,
    lateS: 30,
    ...freshOutboxTerms,
  },
  place: (s) => s.url,
  warning: (s) =>
    webAddress(s.url)?.protocol === 'http:'
      ? `Without TLS: anybody in between can read and change messages${s.loginBy === 'none' ? '' : ', and reads the log-in'}.`
      : null,
  hides: (s) => [
    ...(webAddress(s.url)?.protocol === 'http:' ? ['authorityId'] : []),
    ...(s.loginBy === 'none' ? ['credentialId', 'witnessCredentialId'] : []),
    ...(s.loginBy === 'oauth' ? [] : oauth),
    ...(s.batch === 'one' ? many : s.answersAt === '' ? answers : []),
    ...(s.witness ? (s.readPayload === '' ? ['readBase64'] : []) : ofWitness),
  ],
  witnessed: (s) => s.witness,
  filled: (address) => (address.host === null ? {} : { url: webAt(address)! }),
  SenderFacts: ({ settings: s, credential }) => (
    <>
      <Fact name="Log-in by">{s.loginBy}</Fact>
      <IdentityFacts credential={credential} identity={s.credentialId} authority={s.authorityId} />
      {s.loginBy === 'oauth' && <Fact name="Tokens from">{s.tokenUrl}</Fact>}
      <Fact name="A request holds" mono={false}>
        {holds[s.batch]}
      </Fact>
      {s.batch !== 'one' && (
        <Fact name="Requests">
          up to {s.batchMost} messages, {s.batchKb} kB, or {s.lingerMs} ms
        </Fact>
      )}
      <Fact name="At once">up to {s.parallel}, one a path</Fact>
      <Fact name="Redirects" mono={false}>
        {s.redirects ? 'followed, within the same host and port' : 'not followed'}
      </Fact>
    </>
  ),
  WitnessFacts: ({ settings: s, credential }) => (
    <>
      <Fact name="Reads">{s.readUrl}</Fact>
      <Fact name="Knows by" mono={false}>
        {s.readId === '' ? 'path and payload' : s.readPayload === '' ? 'id; whether it was altered is not told' : 'id and payload'}
      </Fact>
      <IdentityFacts credential={credential} identity={s.witnessCredentialId ?? s.credentialId} />
    </>
  ),
}
