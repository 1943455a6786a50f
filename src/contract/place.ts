const hostText = (text: string) => {
  const name = text.trim().toLowerCase()
  return name.includes(':') ? `[${name}]` : name
}

/** Where something is reached, and how it is protected on the way: `'mqtts://broker.example:8883'`. */
export const placeText = (scheme: string, host: string, port: number): string => `${scheme}://${hostText(host)}:${port}`

/** The place of a broker. */
export const brokerPlace = (s: { host: string; port: number; tls: boolean }): string => placeText(s.tls ? 'mqtts' : 'mqtt', s.host, s.port)

/** The place of a node of a cluster. */
export const nodePlace = (tls: boolean, { host, port }: { host: string; port: number }): string =>
  placeText(tls ? 'kafka-secure' : 'kafka', host, port)

/** The place of a database. */
export const databasePlace = (s: { host: string; port: number; tls: boolean }): string =>
  placeText(s.tls ? 'postgresqls' : 'postgresql', s.host, s.port)

/** The place of a web server. */
export const webPlace = (url: URL): string => {
  const scheme = url.protocol.replace(/:$/, '')
  return placeText(scheme, url.hostname.replace(/^\[|\]$/g, ''), Number(url.port || ports[scheme]))
}

/** By scheme the port where none is said. */
const ports: Readonly<Record<string, number>> = {
  mqtt: 1883,
  mqtts: 8883,
  kafka: 9092,
  'kafka-secure': 9093,
  postgresql: 5432,
  postgresqls: 5432,
  http: 80,
  https: 443,
  socks5: 1080,
}

/** A place as an administrator types it: scheme, host and port. Null: it is none. */
export function placeOf(text: string): string | null {
  const m = /^([a-z-]+):\/\/([^\s/:?#@]+|\[[0-9a-f:]+\])(?::(\d{1,5}))?\/?$/i.exec(text.trim())
  if (!m) return null
  const scheme = m[1]!.toLowerCase()
  if (!Object.hasOwn(ports, scheme)) return null
  const port = Number(m[3] ?? ports[scheme])
  return port >= 1 && port <= 65_535 ? placeText(scheme, m[2]!.replace(/^\[|\]$/g, ''), port) : null
}

const MOST_SERVERS = 20

/** Reads servers: `'kafka-1:9092, kafka-2:9092'`, by commas, spaces or lines; null: one of them is none. */
export function serversOf(text: string): { host: string; port: number }[] | null {
  const out: { host: string; port: number }[] = []
  for (const one of text.split(/[\s,]+/).filter(Boolean)) {
    const found = /^(\[[0-9a-fA-F:]+\]|[^:\s]+):(\d{1,5})$/.exec(one)
    const port = Number(found?.[2])
    if (!found || port < 1 || port > 65_535) return null
    out.push({ host: found[1]!.replace(/^\[|\]$/g, ''), port })
  }
  return out.length > 0 && out.length <= MOST_SERVERS ? out : null
}
