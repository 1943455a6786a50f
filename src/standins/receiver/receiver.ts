import { createHash } from 'node:crypto'
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http'
import { createServer as createSecureServer } from 'node:https'
import type { Socket } from 'node:net'
import type { TLSSocket } from 'node:tls'
import { gunzipSync } from 'node:zlib'
import type { Fate } from '../mishaps'
import { Faults, type ReceiverFaults } from './faults'
import { Logins, type Users } from './logins'

/** One message that a sender was told is kept: the ground truth, which knows nothing of who reads it. */
export interface Arrival {
  /** Counts up by one a message. */
  n: number
  /** Epoch ms. */
  at: number
  method: string
  path: string
  /** Of the header that carries ids; null: none. */
  id: string | null
  /** First 16 hex digits of the payload's SHA-256, as it was sent. */
  hash: string
  fate: Fate
}

/** What is kept, in the order in which it came. */
interface Kept {
  id: string | null
  path: string
  payload: string
}

export interface ReceiverOptions {
  port: number
  users?: Users
  tls?: { cert: string; key: string; ca?: string }
  /** So many messages are kept, the newest. */
  most?: number
}

/** So many requests are known again by their key. */
const KEYS = 20_000
const PAGE = 1000

/** Ids of a request that holds several: `'a.1.3-5,a.2.9'`. */
function idsIn(text: string | undefined): string[] {
  return (text ?? '').split(',').flatMap((part) => {
    const found = /^(.+)\.(\d+)-(\d+)$/.exec(part)
    if (!found) return part === '' ? [] : [part]
    const [first, last] = [Number(found[2]), Number(found[3])]
    return Array.from({ length: last - first + 1 }, (_, i) => `${found[1]}.${first + i}`)
  })
}

async function bodyOf(req: IncomingMessage, most: number): Promise<Buffer | null> {
  const parts: Buffer[] = []
  let octets = 0
  for await (const part of req) {
    octets += (part as Buffer).length
    if (octets <= most) parts.push(part as Buffer)
  }
  if (octets > most) return null
  const body = Buffer.concat(parts)
  return req.headers['content-encoding'] === 'gzip' ? gunzipSync(body) : body
}

/** The messages of a request: one as it is, those of a JSON array, or lines. */
function messagesIn(req: IncomingMessage, text: string): string[] {
  const type = req.headers['content-type'] ?? ''
  if (type.startsWith('application/x-ndjson')) return text.split('\n').filter(Boolean)
  return type.startsWith('application/json') && text.startsWith('[') ? elementsOf(text) : [text]
}

/** Elements of a JSON array as they stand in the text. */
function elementsOf(text: string): string[] {
  const out: string[] = []
  let depth = 0
  let quoted = false
  let from = 1
  for (let i = 0; i < text.length; i++) {
    const c = text[i]
    if (quoted) {
      if (c === '\\') i++
      else if (c === '"') quoted = false
    } else if (c === '"') quoted = true
    else if (c === '[' || c === '{') depth++
    else if ((c === ',' && depth === 1) || (c === ']' && depth === 1)) {
      const one = text.slice(from, i).trim()
      if (one !== '') out.push(one)
      from = i + 1
      if (c === ']') depth--
    } else if (c === ']' || c === '}') depth--
  }
  return out
}

/**
 * A web server that takes messages at any path under `/api`, knows a request again by its idempotency key, tells what it keeps page by
 * page at `/api/kept?after=N`, and gives tokens at `/token`.
 */
export class Receiver {
  readonly faults = new Faults()
  readonly arrivals: Arrival[] = []
  /** What is kept; numbers go on when the oldest are let go of. */
  private kept: Kept[] = []
  private first = 0
  private shut: NodeJS.Timeout | null = null
  private readonly answers = new Map<string, { status: number; body: string }>()
  private readonly sockets = new Set<Socket>()
  private readonly most: number
  readonly logins: Logins
  requests = 0

  private constructor(
    private readonly server: Server,
    o: ReceiverOptions,
  ) {
    this.most = o.most ?? 100_000
    this.logins = new Logins(o.users ?? {})
  }

  static async start(o: ReceiverOptions): Promise<Receiver> {
    const server = o.tls ? createSecureServer({ ...o.tls, requestCert: o.tls.ca !== undefined, rejectUnauthorized: false }) : createServer()
    const receiver = new Receiver(server, o)
    server.on('connection', (socket) => receiver.took(socket))
    server.on('request', (req, res) => void receiver.answer(req, res).catch(() => res.destroy()))
    await new Promise<void>((done, failed) => {
      server.once('error', failed)
      server.listen(o.port, '127.0.0.1', done)
    })
    return receiver
  }

  get port(): number {
    return (this.server.address() as { port: number }).port
  }

  private took(socket: Socket): void {
    if (this.shut) return void socket.destroy()
    this.sockets.add(socket)
    socket.on('error', () => undefined)
    socket.once('close', () => this.sockets.delete(socket))
  }

  setFaults(faults: ReceiverFaults): void {
    this.faults.set(faults)
  }

  isShut(): boolean {
    return this.shut !== null
  }

  /** It starts anew without what it kept. */
  forget(): void {
    this.kept = []
    this.first = 0
    this.answers.clear()
    for (const socket of this.sockets) socket.destroy()
  }

  /** Nobody gets through for so long. */
  cut(seconds: number): void {
    if (this.shut) clearTimeout(this.shut)
    this.shut = setTimeout(() => {
      this.shut = null
    }, seconds * 1000)
    for (const socket of this.sockets) socket.destroy()
  }

  /** Ends connections over which nothing is asked just now, as servers do with those that were kept long enough. */
  endIdle(): void {
    this.server.closeIdleConnections()
  }

  private async answer(req: IncomingMessage, res: ServerResponse): Promise<void> {
    this.requests++
    const { settings } = this.faults
    const body = await bodyOf(req, settings.most)
    if (settings.slowMs > 0) await new Promise((go) => setTimeout(go, settings.slowMs))
    const url = new URL(req.url ?? '/', 'http://receiver')
    const say = (status: number, json: unknown, headers: Record<string, string> = {}) => {
      if (res.destroyed) return
      res.writeHead(status, { 'content-type': 'application/json', ...headers })
      res.end(JSON.stringify(json))
    }
    if (req.method === 'POST' && url.pathname === '/token') {
      const token = settings.refuseLogins ? null : this.logins.token(req.headers.authorization, body?.toString('utf8') ?? '')
      return token ? say(200, token) : say(401, { error: 'invalid_client' })
    }
    const may = settings.refuseLogins ? null : this.logins.who(req.headers.authorization, (req.socket as TLSSocket).getPeerCertificate?.())
    if (!may) return say(401, { error: 'who are you?' }, { 'www-authenticate': 'Basic realm="receiver"' })
    const error = settings.errorOn !== '' && url.pathname.includes(settings.errorOn)
    if (error && req.method !== 'GET')
      return say(
        settings.status,
        { error: `as was asked for: ${settings.status}` },
        {
          ...(settings.retryAfterS > 0 && { 'retry-after': String(settings.retryAfterS) }),
          ...(settings.location !== '' && { location: settings.location }),
        },
      )
    if (!url.pathname.startsWith('/api')) return say(404, { error: 'there is nothing here' })
    if (req.method === 'OPTIONS') return void res.writeHead(204, { allow: 'OPTIONS, GET, POST, PUT, PATCH' }).end()
    if (req.method === 'GET' && url.pathname === '/api/kept')
      return may.reads ? say(200, this.page(url)) : say(403, { error: 'not to be read by you' })
    if (req.method !== 'POST' && req.method !== 'PUT' && req.method !== 'PATCH') return say(405, { error: 'no such method' })
    if (!may.writes) return say(403, { error: 'not to be written by you' })
    if (!body) return say(413, { error: 'too large' })
    if (settings.full) return say(507, { error: 'no room left' })
    this.take(req, url, body.toString('utf8'), res, say)
  }

  private take(req: IncomingMessage, url: URL, text: string, res: ServerResponse, say: (status: number, json: unknown) => void): void {
    const { settings } = this.faults
    if (settings.hangsUpOn !== '' && text.includes(settings.hangsUpOn)) return void res.destroy()
    const key = String(req.headers['idempotency-key'] ?? '')
    const before = key === '' ? undefined : this.answers.get(key)
    if (before) return say(before.status, JSON.parse(before.body))
    const ids = idsIn(req.headers['embrik-id'] as string | undefined)
    const messages = messagesIn(req, text)
    const disliked = (payload: string) => settings.dislikes !== '' && payload.includes(settings.dislikes)
    if (settings.whole && messages.some(disliked)) return say(422, { error: `nobody likes ${settings.dislikes}` })
    const items = messages.map((payload, i) => {
      if (disliked(payload)) return { status: 422, error: `nobody likes ${settings.dislikes}` }
      this.keep(req.method ?? '', url.pathname.slice('/api'.length), ids[i] ?? null, payload)
      return { status: 201 }
    })
    const refused = items.filter((i) => i.status !== 201)
    const answer =
      messages.length === 1 && refused[0]
        ? { status: 422, json: { error: refused[0].error } }
        : { status: messages.length > 1 ? 207 : 201, json: { items } }
    if (key !== '') {
      this.answers.set(key, { status: answer.status, body: JSON.stringify(answer.json) })
      if (this.answers.size > KEYS) for (const oldest of this.answers.keys()) if (this.answers.delete(oldest)) break
    }
    if (this.faults.happens(settings.loseAnswer)) return void res.destroy()
    if (this.faults.happens(settings.failAfter)) return say(500, { error: 'something broke after it was kept' })
    say(answer.status, answer.json)
  }

  private keep(method: string, path: string, id: string | null, payload: string): void {
    const fate = this.faults.fate()
    const hash = createHash('sha256').update(payload).digest('hex').slice(0, 16)
    this.arrivals.push({ n: (this.arrivals.at(-1)?.n ?? 0) + 1, at: Date.now(), method, path, id, hash, fate })
    if (this.arrivals.length > this.most * 1.25) this.arrivals.splice(0, this.arrivals.length - this.most)
    if (fate === 'dropped') return
    const kept = { id, path, payload: fate === 'altered' ? this.faults.altered(payload) : payload }
    this.kept.push(kept)
    if (fate === 'doubled') this.kept.push(kept)
    if (this.kept.length <= this.most * 1.25) return
    const gone = this.kept.length - this.most
    this.kept.splice(0, gone)
    this.first += gone
  }

  private page(url: URL): { items: Kept[]; next: string } {
    const after = Math.max(this.first, Number(url.searchParams.get('after') ?? '') || 0)
    const items = this.kept.slice(after - this.first, after - this.first + PAGE)
    return { items, next: String(after + items.length) }
  }

  async stop(): Promise<void> {
    if (this.shut) clearTimeout(this.shut)
    const closed = new Promise((done) => this.server.close(done))
    for (const socket of this.sockets) socket.destroy()
    await closed
  }
}
