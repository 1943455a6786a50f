import { z } from 'zod'
import { outboxTerms, paceTerms, windowTerm, witnessTerms } from './terms'

/** Where datagrams go. */
export interface DatagramPlace {
  /** An address without brackets, or a name. */
  host: string
  port: number
  /** Everybody who joined gets them (RFC 5771, RFC 4291 2.7); else one machine does. */
  group: boolean
  version: 4 | 6 | 'name'
}

const SHAPE = /^(?:\[([0-9a-f:.]+)\]|([a-z0-9](?:[a-z0-9.-]{0,251}[a-z0-9])?)):([1-9]\d{0,4})$/i

/** Reads `'239.192.7.1:4840'`, `'[ff05::7]:4840'`, `'hmi-3.works.example:4840'`; null: it is no place. */
export function datagramPlace(text: string): DatagramPlace | null {
  const [, six, plain, digits] = SHAPE.exec(text.trim()) ?? []
  const port = Number(digits)
  if (digits === undefined || port > 65_535) return null
  if (six !== undefined) {
    if (!URL.canParse(`http://[${six}]/`)) return null
    const host = new URL(`http://[${six}]/`).hostname.slice(1, -1)
    return { host, port, group: host.startsWith('ff'), version: 6 }
  }
  const host = plain!.toLowerCase()
  if (!/^[\d.]+$/.test(host)) return { host, port, group: false, version: 'name' }
  const octets = host.split('.')
  if (octets.length !== 4 || octets.some((o) => !/^(0|[1-9]\d{0,2})$/.test(o) || Number(o) > 255)) return null
  const first = Number(octets[0])
  return { host, port, group: first >= 224 && first < 240, version: 4 }
}

/** The one way in which a place is written. */
export const placeWritten = ({ host, port, version }: DatagramPlace): string => (version === 6 ? `[${host}]:${port}` : `${host}:${port}`)

/** Reads where datagrams show up again that somebody hands on: lines of `'10.20.0.7:4840 > 239.192.7.1:4841'`; null: a line is none. */
export function relaysOf(text: string): ReadonlyMap<string, string> | null {
  const out = new Map<string, string>()
  for (const line of text.split('\n')) {
    if (line.trim() === '') continue
    const [from, to, more] = line.split('>').map((one) => datagramPlace(one))
    if (!from || !to || more !== undefined || [...out.values()].includes(placeWritten(to))) return null
    out.set(placeWritten(from), placeWritten(to))
  }
  return out
}

/** The name or an address of a network interface. */
const networkInterface = z
  .string()
  .trim()
  .max(100)
  .refine((text) => /^[\w.:%-]*$/.test(text), 'Its name, or an address of this machine: eth0, 10.20.0.7')

/** Datagrams of UDP to one machine or to a group (OPC 10000-14 7.3.2): nobody acknowledges them. */
export const DatagramSettings = z
  .object({
    from: networkInterface.default('').meta({
      label: 'Network interface',
      help: 'By which they leave: its name, or an address of this machine on it. Empty: as this machine routes',
      group: 'Reach',
    }),
    hops: z
      .number()
      .int()
      .min(1, 'At least 1')
      .max(255, 'At most 255')
      .default(1)
      .meta({ label: 'Hops of groups', help: 'Networks that they may pass (TTL). 1: they stay in this one', group: 'Reach' }),
    mostOctets: z.number().int().min(100, 'At least 100').max(65_507, 'At most 65507, which is all that a datagram takes').default(1472).meta({
      label: 'Datagram up to',
      unit: 'octets',
      help: '1472 go in one frame of Ethernet. A larger one goes in pieces, of which none may be lost',
      group: 'Pace',
    }),
    perSecond: z.number().int().min(1, 'At least 1').max(200_000).default(5000).meta({
      label: 'At most',
      unit: 'a second',
      help: 'Nobody says that he cannot follow: what is too much for a receiver is lost',
      group: 'Pace',
    }),
    ...paceTerms,
    ...windowTerm(1000, 'Datagrams handed to the network ahead'),
    ...witnessTerms,
    witnessFrom: networkInterface.default('').meta({
      label: 'Witness interface',
      help: 'Where it joins the groups. Empty: that of the sender. Another one shows that the network in between carries them',
      group: 'Witness',
    }),
    relays: z
      .string()
      .trim()
      .max(4000)
      .default('')
      .refine((text) => relaysOf(text) !== null, 'Lines like 10.20.0.7:4840 > 239.192.7.1:4841')
      .meta({
        label: 'Handed on as',
        help: 'Where a relay sends on what goes elsewhere, a line each: 10.20.0.7:4840 > 239.192.7.1:4841. The witness reads there',
        area: true,
        group: 'Witness',
      }),
    /** Nobody logs in to a datagram. */
    credentialId: z.null().default(null),
    authorityId: z.null().default(null),
    witnessCredentialId: z.null().default(null),
    ...outboxTerms,
  })
  .superRefine((s, ctx) => {
    if (s.lateS > 600) ctx.addIssue({ code: 'custom', path: ['lateS'], message: 'At most 600 s: no network holds a datagram that long' })
  })
export type DatagramSettings = z.infer<typeof DatagramSettings>
