/** What travels beside a payload, whatever the destination; each kind takes of it what it knows. */
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
  /** The destination keeps the last of its place for who comes later. */
  kept?: boolean
  /** What else its kind of destination has to know, in a word of its own: a method of HTTP. */
  how?: string
}

export const plainJson: Properties = { contentType: 'application/json', binary: false, key: '', headers: [], responseTopic: '', expiryS: null }

/** Nothing travels beside an empty payload. */
export const nothing: Properties = { ...plainJson, contentType: '' }

/** As one text for the outbox; empty for plain JSON, which most messages are. */
export function packProperties(p: Properties): string {
  const plain = p.contentType === plainJson.contentType && !p.binary && p.key === '' && p.headers.length === 0 && p.responseTopic === ''
  if (plain && p.expiryS === null && !p.mark && !p.kept && !p.how) return ''
  const rest = p.how ? [p.mark ?? null, p.kept ? 1 : 0, p.how] : p.kept ? [p.mark ?? null, 1] : p.mark ? [p.mark] : []
  return JSON.stringify([p.contentType, p.binary ? 1 : 0, p.key, p.headers, p.responseTopic, p.expiryS, ...rest])
}

const known = new Map<string, Properties>()
const KNOWN_MAX = 2000

/** Reads what `packProperties` wrote; the same texts come again and again and are read once. Throws when it is none. */
export function unpackProperties(text: string): Properties {
  if (text === '') return plainJson
  let p = known.get(text)
  if (!p) {
    const [contentType, binary, key, headers, responseTopic, expiryS, mark, kept, how] = JSON.parse(text) as [
      string,
      number,
      string,
      [string, string][],
      string,
      number | null,
      Properties['mark'] | null,
      number | undefined,
      string | undefined,
    ]
    p = {
      contentType,
      binary: binary === 1,
      key,
      headers,
      responseTopic,
      expiryS,
      ...(mark && { mark }),
      ...(kept === 1 && { kept: true }),
      ...(how && { how }),
    }
    if (known.size >= KNOWN_MAX) known.clear()
    known.set(text, p)
  }
  return p
}
