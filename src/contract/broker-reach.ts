import { z } from 'zod'
import { Id } from './id'
import { placeText } from './place'

/** A proxy through which this machine dials out. */
export interface ProxyAt {
  /** HTTP CONNECT (RFC 9110 9.3.6), or SOCKS 5 (RFC 1928). */
  scheme: 'http' | 'socks5'
  host: string
  port: number
}

/** Reads `http://proxy:3128` or `socks5://proxy:1080`; null: it is neither. */
export function proxyAt(text: string): ProxyAt | null {
  const found = /^(http|socks5):\/\/(\[[0-9a-f:]+\]|[^\s:/@]+):(\d{1,5})\/?$/i.exec(text.trim())
  const port = Number(found?.[3])
  if (!found || port < 1 || port > 65_535) return null
  return { scheme: found[1]!.toLowerCase() as ProxyAt['scheme'], host: found[2]!.replace(/^\[|\]$/g, ''), port }
}

/** Where the log-in of a proxy is sent. */
export const proxyPlace = ({ scheme, host, port }: ProxyAt): string => placeText(scheme === 'http' ? 'http' : 'socks5', host, port)

/** RFC 9110 5.6.2 and 5.5. */
const HEADER = /^([!#$%&'*+\-.^_`|~0-9A-Za-z]+):[ \t]*([\x20-\x7e\t\x80-\xff]*)$/
/** What the handshake itself says (RFC 6455 4.1), and what says who we are: that belongs into a credential. */
const TAKEN = /^(?:host|connection|upgrade|content-length|transfer-encoding|sec-websocket-.*|authorization|proxy-authorization|cookie)$/i

/** Reads `Name: value`, one a line; null: a line is none, or says what a handshake says by itself. */
export function headerLines(text: string): Record<string, string> | null {
  const out: Record<string, string> = {}
  for (const line of text.split(/\r?\n/)) {
    if (line.trim() === '') continue
    const found = HEADER.exec(line.trim())
    if (!found || TAKEN.test(found[1]!)) return null
    out[found[1]!] = found[2]!.trim()
  }
  return out
}

/** How a broker is reached beyond host and port: its transport, and the proxy that stands between. */
export const reachTerms = {
  transport: z
    .enum(['tcp', 'websocket'])
    .default('tcp')
    .meta({ label: 'Over', options: { tcp: 'TCP', websocket: 'WebSocket' }, help: 'WebSocket passes where only the web does', group: 'Reach' }),
  path: z
    .string()
    .trim()
    .max(1000, 'At most 1000 characters')
    .regex(/^\/[^\s#]*$/, 'Begins with a slash, without spaces')
    .default('/mqtt')
    .meta({ label: 'Path', help: 'Where the broker takes WebSockets', group: 'Reach' }),
  headers: z
    .string()
    .max(4000, 'At most 4000 characters')
    .refine((text) => headerLines(text) !== null, 'One a line, Name: value; none that the handshake has itself, and nothing that is secret')
    .default('')
    .meta({ label: 'Headers', help: 'Said with the WebSocket request: Name: value, one a line', area: true, group: 'Reach' }),
  proxy: z
    .string()
    .trim()
    .max(300)
    .refine((text) => text === '' || proxyAt(text) !== null, 'Like http://proxy.example:3128 or socks5://proxy.example:1080')
    .default('')
    .meta({ label: 'Proxy', help: 'Through which this machine dials out: http://... or socks5://...; empty: none', group: 'Proxy' }),
  proxyCredentialId: Id.nullable().default(null).meta({ label: 'Proxy log-in', help: 'Where it asks for one', group: 'Proxy' }),
}
const ReachTerms = z.object(reachTerms)
export type ReachTerms = z.infer<typeof ReachTerms>

/** As forms begin. */
export const freshReach: ReachTerms = ReachTerms.parse({})

/** The log-in of a proxy, where settings name both. */
export function proxyUses({ proxy = '', proxyCredentialId = null }: Partial<ReachTerms>): { credentialId: string; field: string; place: string }[] {
  const at = proxyAt(proxy)
  return at && proxyCredentialId ? [{ credentialId: proxyCredentialId, field: 'proxyCredentialId', place: proxyPlace(at) }] : []
}
