import type { Finding, Resolved } from '~/contract/publication'
import { some } from '../../address/some'
import { parseTopicAddress } from '../../source/mqtt-address'

/** Where tags are read from a broker. */
export interface ReadTopics {
  source: string
  host: string
  port: number
  /** Addresses of its tags. */
  addresses: readonly string[]
}

const own = (host: string) => {
  const plain = host.trim().toLowerCase()
  return plain === 'localhost' || plain === '::1' || plain.startsWith('127.') ? 'this machine' : plain
}

/** Texts that a place may become, as far as its fixed parts say. */
function mayBe(place: Resolved, topic: string): boolean {
  if (typeof place === 'string') return place === topic
  const pattern = place.map((p) => (typeof p === 'string' ? p.replace(/[.*+?^${}()|[\]\\]/g, '\\$&') : '[^/]*')).join('')
  return new RegExp(`^${pattern}$`).test(topic)
}

/** Sources that read what would be sent: what is sent then comes in as new values, which are sent again. */
export function loopFindings(places: readonly Resolved[], to: { host: string; port: number }, sources: readonly ReadTopics[]): Finding[] {
  const fixed = new Set(places.filter((p) => typeof p === 'string'))
  const open = places.filter((p) => typeof p !== 'string')
  const out: Finding[] = []
  for (const { source, host, port, addresses } of sources) {
    if (own(host) !== own(to.host) || port !== to.port) continue
    const topics = new Set(addresses.flatMap((a) => [parseTopicAddress(a)]).flatMap((a) => ('topic' in a ? [a.topic] : [])))
    const back = [...topics].filter((t) => fixed.has(t) || open.some((p) => mayBe(p, t)))
    if (back.length === 0) continue
    out.push({
      severity: 'warns',
      section: 'address',
      message: `${source} reads ${some(back)} from this broker: what is sent there comes in again as values of its tags`,
      hint: 'Change the address, unless none of those tags is sent here',
    })
  }
  return out
}
