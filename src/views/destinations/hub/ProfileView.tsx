import type { HubProfile } from '~/contract/hub-profile'
import { filledFor, type HubUnit, topicWriter } from '~/core/hub/profile'
import { Fact } from '~/ui/Notes'

const logIns: Record<HubProfile['logInBy'], string> = {
  token: 'a token from a key',
  certificate: 'a certificate',
  password: 'a user and password',
}
const EXAMPLE = [
  ['embrik-id', '5e1a364b.1.7'],
  ['content-type', 'application/json'],
] as const

/** What a profile gives for a unit, or for one that is made up. */
export function ProfileView({ profile, typed }: { profile: HubProfile; typed: HubUnit }) {
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
      {profile.selfTopic !== '' && (
        <Fact name="Tells of itself at">
          {filledFor(profile.selfTopic, of)}
          {profile.selfEveryS !== null && `, every ${profile.selfEveryS} s`}
        </Fact>
      )}
      <Fact name="QoS">up to {profile.qosMost}</Fact>
      {profile.payloadOctets !== null && <Fact name="Payload">up to {profile.payloadOctets} octets</Fact>}
      {profile.perSecond !== null && <Fact name="A second">up to {profile.perSecond}</Fact>}
      {profile.perDay !== null && <Fact name="A day">up to {profile.perDay}</Fact>}
      <Fact name="Read back" mono={false}>
        {profile.readBack === 'none' ? 'nothing: what was acknowledged is all that can be said' : 'a stream of events'}
      </Fact>
    </section>
  )
}
