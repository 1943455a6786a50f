const hostText = (text: string) => {
  const name = text.trim().toLowerCase()
  return name.includes(':') ? `[${name}]` : name
}

/** Where something is reached, and how it is protected on the way: `'mqtts://broker.example:8883'`. */
export const placeText = (scheme: string, host: string, port: number): string => `${scheme}://${hostText(host)}:${port}`

/** The place of a broker. */
export const brokerPlace = (s: { host: string; port: number; tls: boolean }): string => placeText(s.tls ? 'mqtts' : 'mqtt', s.host, s.port)

/** The place of a broker as an administrator types it: scheme, host and port. Null: it is none. */
export function placeOf(text: string): string | null {
  const m = /^(mqtts?):\/\/([^\s/:?#@]+|\[[0-9a-f:]+\])(?::(\d{1,5}))?\/?$/i.exec(text.trim())
  if (!m) return null
  const tls = m[1]!.toLowerCase() === 'mqtts'
  const port = Number(m[3] ?? (tls ? 8883 : 1883))
  return port >= 1 && port <= 65_535 ? brokerPlace({ host: m[2]!.replace(/^\[|\]$/g, ''), port, tls }) : null
}
