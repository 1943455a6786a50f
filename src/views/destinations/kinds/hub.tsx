import { useState } from 'react'
import type { HubSettings } from '~/contract/destinations/hub'
import { freshOutboxTerms } from '~/contract/destinations/terms'
import type { HubProfile } from '~/contract/hub-profile'
import { topicWriter } from '~/core/hub/profile'
import { shippedProfiles } from '~/core/hub/shipped'
import { Button } from '~/ui/Button'
import { SelectField } from '~/ui/Field'
import { Fact, Heading } from '~/ui/Notes'
import { EditProfile } from '../hub/EditProfile'
import { ProfileView } from '../hub/ProfileView'
import { IdentityFacts } from './IdentityFacts'
import type { KindView } from './kind-view'

const ofEvents = ['eventsServers', 'eventsTopic', 'eventsTls', 'eventsAuthorityId', 'eventsMechanism', 'witnessCredentialId', 'lateS']
const ofRegistry = ['registryAuthorityId', 'registryCredentialId']
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
    registryAuthorityId: ['authority'],
    registryCredentialId: ['password'],
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
    ...freshOutboxTerms,
    proxy: '',
    proxyCredentialId: null,
    registryUrl: '',
    registryAuthorityId: null,
    registryCredentialId: null,
  },
  folded: ['Proxy', 'Registry'],
  place: (s) => `${s.unit} at ${s.host}:${s.port}`,
  warning: () => null,
  hides: (s) => [
    ...(s.witness ? [] : ofEvents),
    ...(s.eventsTls ? [] : ['eventsAuthorityId']),
    ...(s.proxy === '' ? ['proxyCredentialId'] : []),
    ...(s.registryUrl === '' ? ofRegistry : []),
  ],
  witnessed: (s) => s.witness,
  asked: (s) => s.registryUrl !== '' && s.profile.registryPath !== '',
  claims: ({ events }) => events !== null,
  filled: ({ host, port, identity, events, eventsTopic }, { kinds, eventsLogIn }, { profile }) => ({
    ...profileFor(kinds, profile),
    ...(host !== null && { host }),
    ...(port !== null && { port }),
    ...(identity !== null && { unit: identity }),
    ...(events !== null && { eventsServers: events }),
    ...(eventsTopic !== null && { eventsTopic }),
    ...(eventsLogIn && { eventsMechanism: 'SCRAM-SHA-256' as const }),
  }),
  maker: ({ profile: { token, user } }) => (token ? { user, recipe: token } : undefined),
  Beside: ProfileChoice,
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

/** The first profile by which one can log in with what was handed over; nothing where the chosen one does. */
function profileFor(kinds: ReadonlySet<string>, chosen: HubProfile): { profile?: HubProfile } {
  if (kinds.has(chosen.logInBy)) return {}
  const profile = shippedProfiles.find((p) => kinds.has(p.logInBy))
  return profile ? { profile } : {}
}

/** Which profile the hub is spoken to by, what it gives, and the way to change it. */
function ProfileChoice({ settings, set }: { settings: HubSettings; set(field: 'profile' | 'port', value: unknown): void }) {
  const [editing, setEditing] = useState(false)
  const { profile } = settings
  const take = (next: HubProfile) => {
    set('profile', next)
    // Where nobody said otherwise.
    if (settings.host === '') set('port', next.port)
  }
  return (
    <>
      <Heading>Hub profile</Heading>
      <SelectField label="Profile" value={profile.name} onChange={(e) => take(shippedProfiles.find((p) => p.name === e.target.value) ?? profile)}>
        {[...new Set([profile.name, ...shippedProfiles.map((p) => p.name)])].map((name) => (
          <option key={name}>{name}</option>
        ))}
      </SelectField>
      <ProfileView profile={profile} typed={settings} />
      <div className="mt-2 mb-3">
        <Button small onClick={() => setEditing(true)}>
          Edit profile
        </Button>
      </div>
      {editing && (
        <EditProfile
          profile={profile}
          typed={settings}
          onClose={() => setEditing(false)}
          onSave={(next) => {
            take(next)
            setEditing(false)
          }}
        />
      )}
    </>
  )
}
