import { derKind } from './der'
import type { Broken, Found } from './found'

const BEGIN = /-----BEGIN ([A-Z0-9 ]{1,60})-----/g
const CUT = 'Copy it whole, from -----BEGIN to END-----'

/** Text as it was before a mail program, a JSON text or a spreadsheet had it: without quotation marks at the beginning of its lines, and with real line ends. */
const plain = (text: string): string => text.replace(/\\r?\\n/g, '\n').replace(/^(?:[ \t>|"',]|- ){1,40}/gm, '')

function octetsOf(base64: string): Uint8Array | null {
  const compact = base64.replace(/[\s"',\\]+/g, '')
  if (compact === '' || !/^[A-Za-z0-9+/]+={0,2}$/.test(compact) || compact.length % 4 === 1) return null
  try {
    return Uint8Array.from(atob(compact), (c) => c.charCodeAt(0))
  } catch {
    return null
  }
}

/** The lines before the encoding (RFC 1421 4.6), and it. */
function parted(body: string): { head: string[]; encoded: string } {
  const lines = body.split(/\r?\n/)
  const head = lines.filter((line) => /^[A-Za-z-]{2,40}: /.test(line.trim()))
  return { head, encoded: lines.filter((line) => !head.includes(line)).join('\n') }
}

/**
 * Things in text (RFC 7468), whatever stands around them, and the text without them. A label that does not fit what stands under it is
 * not believed.
 */
export function readPem(text: string, from: string): { found: Found[]; rest: string } {
  const clean = plain(text)
  const found: Found[] = []
  const rest: string[] = []
  let at = 0
  BEGIN.lastIndex = 0
  for (let begin = BEGIN.exec(clean); begin; begin = BEGIN.exec(clean)) {
    rest.push(clean.slice(at, begin.index))
    const label = begin[1]!
    const end = `-----END ${label}-----`
    const next = clean.indexOf('-----BEGIN ', begin.index + 1)
    // Looked for up to the next one only: text that begins thousands of them would be read as often.
    const within = clean.slice(begin.index, next < 0 ? clean.length : next).indexOf(end)
    const until = within < 0 ? -1 : begin.index + within
    const place = `${from}, ${label.toLowerCase()} ${found.length + 1}`
    if (until < 0) {
      found.push(broken(place, `A ${label.toLowerCase()} begins and does not end`, CUT))
      at = next < 0 ? clean.length : next
      BEGIN.lastIndex = at
      continue
    }
    at = until + end.length
    BEGIN.lastIndex = at
    found.push(thingOf(clean.slice(begin.index + begin[0].length, until), label, place))
  }
  rest.push(clean.slice(at))
  return { found, rest: rest.join('\n') }
}

function thingOf(body: string, label: string, from: string): Found {
  const { head, encoded } = parted(body)
  const der = octetsOf(encoded)
  if (!der) return broken(from, `What stands in this ${label.toLowerCase()} is no base64`, CUT)
  if (head.some((line) => /^Proc-Type:.*ENCRYPTED/.test(line.trim()))) {
    const lines = head.map((line) => line.trim()).join('\n')
    return { kind: 'locked-key', from, der, pem: `-----BEGIN ${label}-----\n${lines}\n\n${wrapped(encoded)}\n-----END ${label}-----\n` }
  }
  const kind = derKind(der)
  if (kind) return { kind, from, der }
  return broken(from, `This ${label.toLowerCase()} cannot be read: it is cut short, or something else`, CUT)
}

const wrapped = (base64: string): string => base64.replace(/\s+/g, '').replace(/.{64}(?=.)/g, '$&\n')
const broken = (from: string, why: string, hint: string): Broken => ({ kind: 'broken', from, why, hint })

/** A thing as text (RFC 7468 2): base64 in lines of 64 between its labels. */
export function pemOf(label: string, der: Uint8Array): string {
  let octets = ''
  for (let at = 0; at < der.length; at += 8192) octets += String.fromCharCode(...der.subarray(at, at + 8192))
  return `-----BEGIN ${label}-----\n${btoa(octets).replace(/.{64}/g, '$&\n').trimEnd()}\n-----END ${label}-----\n`
}
