import { type Failure, FailureError } from '~/contract/failure'
import { wordsOf } from '../../log'

/** What it means for a datagram that it could not be sent. */
export type Meaning =
  /** Never, for this one. */
  | 'refused'
  /** Not now, for where it goes. */
  | 'later'
  /** Not now, wherever it goes. */
  | 'all later'
  /** Nothing can be sent any more. */
  | 'lost'

type Said = readonly [meaning: Meaning, code: string, words: string, hint: string]

/** By error of the system (POSIX.1-2017 2.3, of sendmsg and bind), what is to be done about it. */
const ofSystem: Readonly<Record<string, Said>> = {
  EMSGSIZE: ['refused', 'size', 'it is larger than the network takes', 'Send less in one message'],
  ECONNREFUSED: ['later', 'nobody', 'nobody listens there', 'Start the receiver, or correct the port; Embrik tries again'],
  EHOSTUNREACH: ['later', 'unreachable', 'that machine does not answer', 'Is it switched on, and in this network?'],
  ENETUNREACH: ['later', 'no-way', 'this machine has no way there', 'Name the network interface of the destination, or mend the routes'],
  EINVAL: ['later', 'no-way', 'there is no way there from that interface', 'Name another network interface in the destination'],
  EACCES: ['later', 'broadcast', 'it is the address of everybody, or a firewall here forbids it', 'Send to a group that receivers join'],
  EPERM: ['later', 'firewall', 'a firewall of this machine forbids it', 'Allow it there'],
  ENOTFOUND: ['later', 'name', 'the name is not known', 'Check the spelling, or write the IP address'],
  EAI_AGAIN: ['later', 'name', 'no name server answers', 'Write the IP address, or look at the name server of this machine'],
  ENOBUFS: ['all later', 'busy', 'this machine has no room to send', 'Lower how many go a second; Embrik tries again'],
  ENOMEM: ['all later', 'busy', 'this machine has no room to send', 'Embrik tries again'],
  EMFILE: ['all later', 'handles', 'too many files and sockets are open on this machine', 'Raise the limit of open files; Embrik tries again'],
  ENFILE: ['all later', 'handles', 'too many files and sockets are open on this machine', 'Raise the limit of open files; Embrik tries again'],
  ENETDOWN: ['lost', 'interface', 'the network interface is down', 'Plug it in, or name another one'],
  ENODEV: ['lost', 'interface', 'the network interface is gone', 'Bring it back, or name another one'],
  EADDRNOTAVAIL: ['lost', 'interface', 'the network interface has not that address any more', 'Name the interface, or one of its addresses of now'],
  EADDRINUSE: ['lost', 'port', 'somebody else has the port for himself', 'Find out which program listens there, and whether it shares'],
}

/** What an error says of a datagram to a place. */
export function meaningOf(e: unknown, place: string, where: Failure['where'] = 'destination'): { meaning: Meaning; failure: Failure } {
  if (e instanceof FailureError) return { meaning: 'later', failure: { ...e.failure, where } }
  const code = String((e as { code?: unknown }).code ?? '')
  const said = Object.hasOwn(ofSystem, code) ? ofSystem[code]! : null
  const [meaning, short, words, hint] = said ?? (['later', 'failed', wordsOf(e), 'Embrik tries again'] as const)
  return { meaning, failure: { code: `datagram.${short}`, message: `${place}: ${words}`, hint, where } }
}
