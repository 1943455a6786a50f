import type { HubProfile } from '~/contract/hub-profile'
import { filledFor, topicWriter } from '~/core/hub/profile'
import { shippedProfiles } from '~/core/hub/shipped'
import { SelectField } from '~/ui/Field'
import { Fact, Heading } from '~/ui/Notes'
import { IdentityFacts } from './IdentityFacts'
import type { KindView } from './kind-view'

const ofEvents = ['eventsServers', 'eventsTopic', 'eventsTls', 'eventsAuthorityId', 'eventsMechanism', 'witnessCredentialId', 'lateS']
const logIns = { token: 'a token from a key', certificate: 'a certificate', password: 'a user and password' } as const

export const hub: KindView<'hub'> = {
  label: 'Cloud hub',
  example: 'Tarn hub',
  check: 'Tries name, port, TLS, the log-in, what publications send, and the events, each by itself. Nothing is sent and nothing saved by it.',
  credentials: {
    authorityId: ['authority'],
    credentialId: ['token', 'certificate', 'password'],
    eventsAuthorityId: ['authority'],
    witnessCredentialId: ['password', 'certificate', 'token'],
    proxyCredentialId: ['password'],
  },
  fresh: {
    host: '',
    port: 8883,
    profile: shippedProfiles[0]!,
    authorityId: null,
    unit: '',
    credentialId: null,
    keepAliveS: 30,
    retryMs: 1000,
    window: 100,
    ackS: 20,
    witness: true,
    lateS: 30,
    eventsServers: '',
    eventsTopic: '',
    eventsTls: true,
    eventsAuthorityId: null,
    eventsMechanism: 'none',
    witnessCredentialId: null,
    outboxMb: 500,
    outboxHours: 0,
    proxy: '',
    proxyCredentialId: null,
  },
  folded: ['Proxy'],
  place: (s) => `${s.unit} at ${s.host}:${s.port}`,
  warning: () => null,
  hides: (s) => [...(s.witness ? [] : ofEvents), ...(s.eventsTls ? [] : ['eventsAuthorityId']), ...(s.proxy === '' ? ['proxyCredentialId'] : [])],
  witnessed: (s) => s.witness,
  filled: ({ host, port, identity, events, eventsTopic }, eventsLogIn) => ({
    ...(host !== null && { host }),
    ...(port !== null && { port }),
    ...(identity !== null && { unit: identity }),
    ...(events !== null && { eventsServers: events }),
    ...(eventsTopic !== null && { eventsTopic }),
    ...(eventsLogIn && { eventsMechanism: 'SCRAM-SHA-256' as const }),
  }),
  maker: ({ profile: { token, user } }) => (token ? { user, recipe: token } : undefined),
  Beside: ({ settings, set }) => (
    <>
      <Heading>Hub profile</Heading>
      <SelectField
        label="Profile"
        value={settings.profile.name}
        onChange={(e) => set('profile', shippedProfiles.find((p) => p.name === e.target.value) ?? settings.profile)}
      >
        {[...new Set([settings.profile.name, ...shippedProfiles.map((p) => p.name)])].map((name) => (
          <option key={name}>{name}</option>
        ))}
      </SelectField>
      <ProfileView profile={settings.profile} host={settings.host} port={settings.port} unit={settings.unit} />
    </>
  ),
  SenderFacts: ({ settings: s, credential }) => (
    <>
      <Fact name="Profile">{s.profile.name}</Fact>
      <Fact name="Device identity">{s.unit}</Fact>
      <IdentityFacts credential={credential} identity={s.credentialId} authority={s.authorityId} />
      <Fact name="Topic">{topicWriter(s.profile, s)('{place}', [])}</Fact>
      <Fact name="In flight">up to {s.window}</Fact>
    </>
  ),
  WitnessFacts: ({ settings: s, credential }) => (
    <>
      <Fact name="Reads">
        {s.eventsTopic} at {s.eventsServers}
      </Fact>
      <IdentityFacts credential={credential} identity={s.witnessCredentialId} />
    </>
  ),
}

const EXAMPLE = [
  ['embrik-id', '5e1a364b.1.7'],
  ['content-type', 'application/json'],
] as const

/** What a profile gives for this unit, or one that is made up. */
function ProfileView({ profile, ...typed }: { profile: HubProfile; host: string; port: number; unit: string }) {
  const of = { host: typed.host || 'hub.example', port: typed.port || profile.port, unit: typed.unit || 'kiln-edge' }
  const place = profile.oneLevel ? 'zone-1' : 'firing/zone-1'
  return (
    <section aria-label="What the profile gives">
      {profile.about && <p className="py-1 text-muted">{profile.about}</p>}
      <Fact name="Client id">{filledFor(profile.clientId, of)}</Fact>
      <Fact name="Log-in by" mono={false}>
        {logIns[profile.logInBy]}
      </Fact>
      <div className="py-1">
        <span className="text-muted">Topic of a message to {place}</span>
        <code className="mt-0.5 block rounded-sm bg-well px-2 py-1 font-mono text-[12px] break-all">
          {topicWriter(profile, of)(place, profile.properties === 'topic' ? EXAMPLE : [])}
        </code>
      </div>
      <Fact name="QoS">up to {profile.qosMost}</Fact>
      {profile.payloadOctets !== null && <Fact name="Payload">up to {profile.payloadOctets} octets</Fact>}
      {profile.perSecond !== null && <Fact name="A second">up to {profile.perSecond}</Fact>}
      {profile.perDay !== null && <Fact name="A day">up to {profile.perDay}</Fact>}
    </section>
  )
}
