/** What travels beside a payload: properties of MQTT 5 (3.3.2.3), key and headers of a stream. */
export interface Properties {
  contentType: string
  /** The payload is not text. */
  binary: boolean
  key: string
  headers: [string, string][]
  responseTopic: string
  /** s from when it was made; null: for ever. */
  expiryS: number | null
  /** For whoever sends it, not for receivers: with these data the device of the message is lost. */
  mark?: 'device-lost'
}

export const plainJson: Properties = { contentType: 'application/json', binary: false, key: '', headers: [], responseTopic: '', expiryS: null }

/** As one text for the outbox; empty for plain JSON, which most messages are. */
export function packProperties(p: Properties): string {
  if (p.contentType === plainJson.contentType && !p.binary && p.key === '' && p.headers.length === 0 && p.responseTopic === '' && p.expiryS === null)
    return ''
  return JSON.stringify([p.contentType, p.binary ? 1 : 0, p.key, p.headers, p.responseTopic, p.expiryS, ...(p.mark ? [p.mark] : [])])
}

const known = new Map<string, Properties>()
const KNOWN_MAX = 2000

/** Reads what `packProperties` wrote; the same texts come again and again and are read once. Throws when it is none. */
export function unpackProperties(text: string): Properties {
  if (text === '') return plainJson
  let p = known.get(text)
  if (!p) {
    const [contentType, binary, key, headers, responseTopic, expiryS, mark] = JSON.parse(text) as [
      string,
      number,
      string,
      [string, string][],
      string,
      number | null,
      Properties['mark'],
    ]
    p = { contentType, binary: binary === 1, key, headers, responseTopic, expiryS, ...(mark && { mark }) }
    if (known.size >= KNOWN_MAX) known.clear()
    known.set(text, p)
  }
  return p
}
