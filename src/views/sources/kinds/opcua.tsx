import { Fact } from '~/ui/Notes'
import { useCall } from '../../app/api'
import { inAddress } from '../../destinations/intake/addresses'
import type { KindForm, KindView } from './kind-view'
import { Offers, OwnCertificate, ServerCertificate } from './OpcUaParts'

export const opcua: KindView<'opcua'> = {
  label: 'OPC UA',
  note: 'A server with an address space to browse: controllers, historians',
  check:
    'Tries, one after the other: name, port, secure channel, whether the server trusts Embrik, log-in, and a first read. Nothing is saved by it.',
  tags: { page: '/sources/browse', label: 'Browse and add tags' },
  measured: true,
  credentials: ['certificate'],
  fresh: {
    endpoint: 'opc.tcp://',
    mode: 'SignAndEncrypt',
    policy: 'Basic256Sha256',
    login: 'user',
    user: '',
    serverThumbprint: '',
    serverCertificate: '',
    credentialId: null,
    samplingMs: 0,
    queue: 10,
    deadbands: 'here',
    rateMs: 500,
    retryMs: 1000,
  },
  place: (s) => s.endpoint,
  warning: (s) => (s.mode === 'None' ? 'Without security: anybody in between can read and change values.' : null),
  hides: (s) => [
    ...(s.login === 'user' ? [] : ['user']),
    ...(s.login === 'certificate' ? [] : ['credentialId']),
    ...(s.mode === 'None' ? ['serverThumbprint'] : []),
  ],
  secret: (s) => (s.login === 'user' ? { after: 'user', label: 'Password' } : null),
  filled: ({ host, port, path }) => (host === null ? {} : { endpoint: `opc.tcp://${inAddress(host)}:${port ?? 4840}${path ?? ''}` }),
  Facts: ({ settings: s }) => (
    <>
      <Fact name="Security">{s.mode === 'None' ? 'none' : `${s.mode}, ${s.policy}`}</Fact>
      <Fact name="Log-in">{s.login === 'user' ? s.user : s.login === 'certificate' ? 'by certificate' : 'anonymous'}</Fact>
      <Fact name="Update rate">{s.rateMs} ms</Fact>
      <Fact name="Its certificate">{s.serverThumbprint ? grouped(s.serverThumbprint) : s.mode === 'None' ? 'not asked for' : 'not trusted yet'}</Fact>
      <OwnThumbprint />
    </>
  ),
  after: ({ settings, set }) => ({
    endpoint: (
      <Offers
        endpoint={settings.endpoint}
        onTake={(offer) => {
          set('mode', offer.mode as typeof settings.mode)
          set('policy', offer.policy as typeof settings.policy)
          const login = offer.logins.find((l) => l === settings.login) ?? offer.logins.find((l) => l !== 'token')
          if (login) set('login', login as typeof settings.login)
        }}
      />
    ),
  }),
  Found: ({ form }) => <Server form={form} />,
  Beside: () => <OwnCertificate />,
}

/** The certificate that the last check has seen, and whether it is trusted. */
function Server({ form: { settings, set, steps, check } }: { form: KindForm<'opcua'> }) {
  const seen = steps.find((s) => s.facts?.serverThumbprint)?.facts
  if (!seen) return null
  const { serverThumbprint: sha1 = '', serverSha256: sha256 = '' } = seen
  const decide = (trusted: string, refused: string) => {
    set('serverThumbprint', trusted)
    set('serverCertificate', trusted === '' ? '' : seen.serverCertificate)
    set('refusedThumbprint', refused)
  }
  return (
    <ServerCertificate
      certificate={{ thumbprint: sha1, sha256, subject: seen.serverSubject ?? '', notBefore: seen.serverFrom ?? '', notAfter: seen.serverTo ?? '' }}
      trusted={settings.serverThumbprint ?? ''}
      refused={settings.refusedThumbprint ?? ''}
      onTrust={() => {
        decide(sha256, '')
        check()
      }}
      onRefuse={() => decide('', sha256)}
    />
  )
}

function OwnThumbprint() {
  const application = useCall('application')
  return <Fact name="Ours">{application.data ? <span title={application.data.thumbprint}>{grouped(application.data.thumbprint)}</span> : '...'}</Fact>
}

/** A thumbprint in groups of eight, so that two can be compared by eye. */
const grouped = (thumbprint: string) => thumbprint.match(/.{1,8}/g)?.join(' ') ?? thumbprint
