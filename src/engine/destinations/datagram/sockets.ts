import { createSocket, type Socket } from 'node:dgram'
import { lookup } from 'node:dns/promises'
import { isIP } from 'node:net'
import { networkInterfaces } from 'node:os'
import { datagramPlace } from '~/contract/destinations/datagram'
import { fail } from '~/contract/failure'
import { reach } from '../../net/reach'

/** A network interface of this machine. */
export interface Interface {
  name: string
  /** Its addresses, by version; null: it has none of that. */
  v4: string | null
  v6: string | null
}

/** All of this machine, with the first address of each version. */
export function interfaces(): Interface[] {
  return Object.entries(networkInterfaces()).map(([name, all = []]) => ({
    name,
    v4: all.find((a) => a.family === 'IPv4')?.address ?? null,
    v6: all.find((a) => a.family === 'IPv6')?.address ?? null,
  }))
}

/** The interface of a name or an address; null: whichever this machine takes. Throws where there is none. */
export function interfaceOf(text: string): Interface | null {
  if (text === '') return null
  for (const [name, all = []] of Object.entries(networkInterfaces())) {
    const own = all.find((a) => a.address === text)
    const first = interfaces().find((i) => i.name === name)
    if (name === text && first) return first
    if (own && first) return own.family === 'IPv4' ? { ...first, v4: text } : { ...first, v6: text }
  }
  const there = interfaces().map(({ name, v4, v6 }) => `${name} (${v4 ?? v6 ?? 'no address'})`)
  throw fail(502, 'datagram.no-interface', `There is no network interface ${text} here`, `There are: ${there.join(', ')}`, 'destination')
}

/** Where a place is, as the network knows it. */
export interface Spot {
  address: string
  port: number
  version: 4 | 6
  group: boolean
}

/** Finds where a place is; throws where it is none, its name is not known, or it may not be reached from here. */
export async function spotOf(text: string): Promise<Spot> {
  const place = datagramPlace(text)
  if (!place)
    throw fail(
      502,
      'datagram.place',
      `${text.slice(0, 200)} is no group or host with a port`,
      'Correct the address of the publication',
      'destination',
    )
  const { address, family } = isIP(place.host) === 0 ? await lookup(place.host) : { address: place.host, family: isIP(place.host) }
  reach.demand(address, place.port, place.host, place.group)
  return { address, port: place.port, version: family === 6 ? 6 : 4, group: place.group }
}

const bound = (socket: Socket, o: { address?: string; port: number }) =>
  new Promise<void>((done, failed) => {
    socket.once('error', failed)
    socket.bind(o, () => {
      socket.off('error', failed)
      done()
    })
  })

/** Which address of an interface belongs to a version; throws where it has none. */
function own(via: Interface, version: 4 | 6): string {
  const address = version === 4 ? via.v4 : via.v6
  if (address === null)
    throw fail(
      502,
      'datagram.no-version',
      `The network interface ${via.name} has no address of IPv${version}`,
      `Send to IPv${version === 4 ? 6 : 4}, or give it one`,
      'destination',
    )
  return address
}

/** A socket that sends; to one machine over a way of its own it hears when nobody listens there. */
export async function sending(spot: Spot, via: Interface | null, hops: number, connect: boolean): Promise<Socket> {
  const socket = createSocket(spot.version === 4 ? 'udp4' : 'udp6')
  try {
    await bound(socket, { port: 0, ...(via && { address: own(via, spot.version) }) })
    if (spot.group) {
      socket.setMulticastTTL(hops)
      socket.setMulticastLoopback(true)
      if (via) socket.setMulticastInterface(spot.version === 4 ? own(via, 4) : `::%${via.name}`)
    }
    if (connect)
      // It hears of a failure too, which its type does not say.
      await new Promise<void>((done, failed) => socket.connect(spot.port, spot.address, ((e?: Error) => (e ? failed(e) : done())) as () => void))
    return socket
  } catch (e) {
    socket.close()
    throw e
  }
}

/** So many octets of datagrams the machine is asked to hold for a socket that is not read at once. */
const HELD_OCTETS = 4 << 20

/** A socket that hears what goes to a group, or to one address of this machine. */
export async function listening(spot: Spot, via: Interface | null): Promise<Socket> {
  const socket = createSocket({ type: spot.version === 4 ? 'udp4' : 'udp6', reuseAddr: true, recvBufferSize: HELD_OCTETS })
  try {
    // Bound to the group it hears nothing else that comes to the port.
    await bound(socket, { address: spot.address, port: spot.port })
    if (spot.group) socket.addMembership(spot.address, via ? (spot.version === 4 ? own(via, 4) : `::%${via.name}`) : undefined)
    return socket
  } catch (e) {
    socket.close()
    throw e
  }
}
