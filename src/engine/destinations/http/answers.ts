import type { IncomingHttpHeaders } from 'node:http'
import type { Failure } from '~/contract/failure'
import { pointed } from '~/core/source/json-leaf'
import { httpDate } from '~/core/value/http-date'
import type { WebAnswer } from '../../net/web'

/** What an answer means for what was sent. */
export type Meaning =
  | 'has'
  /** Never, for these messages. */
  | 'refused'
  /** One of them is at fault, or they are too large together: of one message, never. */
  | 'split'
  /** Not now, for the path. */
  | 'later'
  /** Not now, whatever the path. */
  | 'all later'
  /** The log-in is not taken (any more). */
  | 'login'

/** So much of what a server says becomes the reason, characters. */
const REASON = 300
const WAIT_MOST_MS = 3_600_000

interface Said {
  meaning: Meaning
  code: string
  words: string
  hint: string
}
const say = (meaning: Meaning, code: string, words: string, hint: string): Said => ({ meaning, code, words, hint })

/** By status (RFC 9110 15), what is to be done about it. */
const known: Readonly<Record<number, Said>> = {
  400: say('split', 'malformed', 'the server finds it malformed', 'Compare the shape with what the receiver expects'),
  401: say('login', 'login', 'the server does not take the log-in', 'Check user, password or token; nothing is lost meanwhile'),
  403: say('refused', 'not-allowed', 'not allowed there', 'Ask for the permission to send to this path'),
  404: say('refused', 'no-path', 'there is nothing at this path', 'Correct the path, or the address of the destination'),
  405: say('refused', 'method', 'the path does not take this method', 'Choose another method in the address'),
  407: say('login', 'proxy', 'a proxy in between wants a log-in', 'Ask who runs the proxy'),
  408: say('later', 'timed-out', 'the server did not get it in time', 'The way there is slow; Embrik tries again'),
  409: say('refused', 'conflict', 'it conflicts with what is there', 'Ask the receiver what it compares'),
  410: say('refused', 'no-path', 'there is nothing at this path any more', 'Correct the path'),
  411: say('refused', 'length', 'the server wants a length and something in between took it away', 'Look at proxies in between'),
  413: say('split', 'too-large', 'larger than the server takes', 'Send fewer messages a request, fewer members, or another shape'),
  414: say('refused', 'path-length', 'the path is longer than the server takes', 'Shorten the path template'),
  415: say(
    'refused',
    'content-type',
    'the server does not take this content type, or this compression',
    'Set the content type of the address; switch compression off',
  ),
  421: say('refused', 'misdirected', 'the server does not answer under this name', 'Check the address'),
  422: say('split', 'content', 'the server does not take what is in it', 'Compare the shape with what the receiver expects'),
  423: say('later', 'locked', 'it is locked there just now', 'Embrik tries again'),
  425: say('later', 'too-early', 'too early for the server', 'Embrik tries again'),
  429: say('all later', 'too-many', 'the server wants fewer requests', 'Send less often, or ask for more; Embrik waits as long as it asks for'),
  431: say('refused', 'headers', 'the headers are larger than the server takes', 'Have fewer or shorter headers in the address'),
  501: say('refused', 'method', 'the server does not know this method', 'Choose another method in the address'),
  502: say('all later', 'gateway', 'what is in front of the server gets no answer from it', 'Look at the server behind; Embrik tries again'),
  503: say('all later', 'busy', 'the server takes nothing just now', 'Embrik tries again, and waits as long as it asks for'),
  504: say('all later', 'gateway', 'what is in front of the server gets no answer from it in time', 'Look at the server behind; Embrik tries again'),
  507: say('all later', 'full', 'the server has no room left', 'Make room there; Embrik tries again'),
}

function saidOf(status: number, headers: IncomingHttpHeaders): Said {
  const own = known[status]
  if (own) return own
  if (status >= 200 && status < 300) return say('has', 'has', '', '')
  if (status >= 300 && status < 400)
    return say(
      'all later',
      'redirect',
      `the server points to ${headers.location?.slice(0, 200) ?? 'another place'}, which is not followed`,
      'Put the new address into the destination, or allow redirects within the same host and port',
    )
  if (status >= 400 && status < 500) return say('refused', `status-${status}`, `the server refuses it with ${status}`, 'Ask the receiver')
  return say('later', `status-${status}`, `the server answers with ${status}`, 'Look at its log; Embrik tries again')
}

/** What a server says in a few words: its reason where it gives one as JSON (RFC 9457 3.1, or in other words), else what its answer holds, without layout. */
export function reasonIn(body: string): string {
  const text = (said(body) ?? body)
    .replace(/<(script|style)[\s\S]*?<\/\1>/gi, ' ')
    .replace(/<[^>]*>/g, ' ')
    // What is no text to be read.
    .replace(/[\p{Cc}\p{Cf}\s]+/gu, ' ')
    .trim()
  return text.length > REASON ? `${text.slice(0, REASON)}…` : text
}

function said(body: string): string | null {
  if (!body.trimStart().startsWith('{')) return null
  try {
    const json: unknown = JSON.parse(body)
    for (const name of ['detail', 'title', 'message', 'error_description', 'error', 'reason']) {
      const text = pointed(json, `/${name}`)
      if (typeof text === 'string' && text.trim() !== '') return text
    }
  } catch {
    // It only looked like JSON.
  }
  return null
}

/** How long the server asks to wait (RFC 9110 10.2.3), ms; 0: it does not. `now`: epoch ms. */
export function retryAfter(headers: IncomingHttpHeaders, now: number): number {
  const text = headers['retry-after']?.trim() ?? ''
  const ms = /^\d+$/.test(text) ? Number(text) * 1000 : httpDate(text) - now
  return Number.isFinite(ms) ? Math.max(0, Math.min(ms, WAIT_MOST_MS)) : 0
}

/** What an answer means, and in words; `place`: the path, or where one message of many stood. */
export function meaningOf(
  { status, headers }: Pick<WebAnswer, 'status' | 'headers'>,
  place: string,
  reason: string,
): { meaning: Meaning; failure: Failure } {
  const { meaning, code, words, hint } = saidOf(status, headers)
  const because = reason === '' ? ` (${status})` : ` (${status}: ${reason})`
  return { meaning, failure: { code: `http.${code}`, message: `${place}: ${words}${because}`, hint, where: 'destination' } }
}
