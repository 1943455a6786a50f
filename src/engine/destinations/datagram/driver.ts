import type { DestinationSettings } from '~/contract/destination'
import type { DestinationDriver } from '../driver'
import { checkDatagram } from './check'
import { DatagramFarEnd } from './far-end'
import { DatagramSender } from './sender'

type Settings = DestinationSettings['datagram']

/** Datagrams of UDP, to one machine or to a group. */
export const datagramDriver: DestinationDriver<'datagram'> = {
  carriesId: () => false,
  protection: ({ settings: { from } }) => `datagrams, not protected${from === '' ? '' : `, by ${from}`}`,
  rights: (_settings, reads) => `of this machine to send to ${reads[0] ?? 'its groups'}, and to join it`,
  within: ({ topic }) => topic,
  manner: () => '',
  described: ({ topic }) => topic.slice(0, 200),
  dislikes: 'look at how large it is, and at a firewall in between',
  sameSender: (a, b) => JSON.stringify(howOf(a.settings)) === JSON.stringify(howOf(b.settings)),
  sameWitness: (a, b) => JSON.stringify(readOf(a.settings)) === JSON.stringify(readOf(b.settings)),
  check: (target, { sends }) => checkDatagram(target, sends),
  farEnd: ({ settings }, sink, clock) => new DatagramFarEnd(settings, sink, clock),
  async open({ settings }, { sink, clock }) {
    return DatagramSender.begin(settings, sink, clock)
  },
}

const howOf = ({ from, hops, mostOctets, perSecond, window }: Settings) => [from, hops, mostOctets, perSecond, window]
const readOf = ({ from, witnessFrom, relays }: Settings) => [witnessFrom || from, relays]
