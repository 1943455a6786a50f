import type { TakenIn } from '~/contract/intake'
import { brokerPlace, placeOf } from '~/contract/place'

/** An address that somebody was handed. */
export type HandedAddress = TakenIn['address']

/** A host as it stands before a colon and a port. */
export const inAddress = (host: string): string => (host.includes(':') ? `[${host}]` : host)

const SECURE = /s$|tls|ssl/

/** Host, port and protection of a broker; where nobody says otherwise, it is protected. */
export function brokerAt({ host, port, scheme }: HandedAddress): { host: string; port: number; tls: boolean } | null {
  const tls = scheme === null ? port !== 1883 : SECURE.test(scheme)
  return host === null ? null : { host, port: port ?? (tls ? 8883 : 1883), tls }
}

/** Host and, where it was said, port. */
export const hostAt = ({ host, port }: HandedAddress): { host: string; port?: number } | null =>
  host === null ? null : { host, ...(port !== null && { port }) }

/** Where a web server is. */
export function webAt({ host, port, scheme, path }: HandedAddress): string | null {
  return host === null ? null : `${scheme === 'http' ? 'http' : 'https'}://${inAddress(host)}${port === null ? '' : `:${port}`}${path ?? ''}`
}

/** Where a log-in that stood with an address is meant to go; empty: nobody knows. */
export function placeFor(address: HandedAddress): string {
  const { host, port, scheme } = address
  const said = scheme === null || host === null ? null : placeOf(`${scheme}://${inAddress(host)}${port === null ? '' : `:${port}`}`)
  const broker = brokerAt(address)
  return said ?? (broker ? brokerPlace(broker) : '')
}
