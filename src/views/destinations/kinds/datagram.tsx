import { relaysOf } from '~/contract/destinations/datagram'
import { freshOutboxTerms } from '~/contract/destinations/terms'
import { Fact } from '~/ui/Notes'
import type { KindView } from './kind-view'

const ofWitness = ['witnessFrom', 'relays', 'lateS']

export const datagram: KindView<'datagram'> = {
  label: 'Datagrams',
  example: 'Hall network',
  check:
    'Tries the network interface, sends a datagram that holds nothing to each group and host of its publications, and hears whether it comes back to the witness.',
  credentials: {},
  fresh: {
    from: '',
    hops: 1,
    mostOctets: 1472,
    perSecond: 5000,
    retryMs: 1000,
    ackS: 20,
    window: 1000,
    witness: true,
    witnessFrom: '',
    relays: '',
    lateS: 10,
    credentialId: null,
    authorityId: null,
    witnessCredentialId: null,
    ...freshOutboxTerms,
  },
  place: ({ from }) => (from === '' ? 'UDP' : `UDP by ${from}`),
  warning: () => 'Datagrams are not protected: anybody in between can read and change them, and send others. Nobody acknowledges them.',
  // Nobody acknowledges, so that nothing can be waited for.
  hides: (s) => ['ackS', ...(s.witness ? [] : ofWitness)],
  witnessed: (s) => s.witness,
  SenderFacts: ({ settings: s }) => (
    <>
      <Fact name="Leaves by">{s.from === '' ? 'any interface' : s.from}</Fact>
      <Fact name="Hops of groups">{s.hops}</Fact>
      <Fact name="Datagram up to">{s.mostOctets} octets</Fact>
      <Fact name="At most">{s.perSecond} a second</Fact>
      <Fact name="Last word" mono={false}>
        sent: nobody acknowledges
      </Fact>
    </>
  ),
  WitnessFacts: ({ settings: s }) => (
    <>
      <Fact name="Reads" mono={false}>
        what comes to the groups
      </Fact>
      <Fact name="Joins by">{s.witnessFrom || s.from || 'any interface'}</Fact>
      {[...(relaysOf(s.relays) ?? [])].map(([from, to]) => (
        <Fact key={from} name="Handed on as">
          {from} &gt; {to}
        </Fact>
      ))}
      <Fact name="Knows by" mono={false}>
        address and payload
      </Fact>
    </>
  ),
}
