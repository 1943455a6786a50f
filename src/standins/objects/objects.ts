import { createHash } from 'node:crypto'
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http'
import { createServer as createSecureServer } from 'node:https'
import type { Socket } from 'node:net'
import type { Fate } from '../mishaps'
import { Faults, type ObjectFaults } from './faults'
import { whoSigned } from './signature'

/** What a key may do, by what keys of objects begin with. */
export interface ObjectKey {
  secret: string
  write: readonly string[]
  read: readonly string[]
}

export interface ObjectStoreOptions {
  port: number
  bucket: string
  keys: Readonly<Record<string, ObjectKey>>
  region?: string
  tls?: { cert: string; key: string }
  /** Octets that are kept at most, the newest. */
  most?: number
}

/** One object that a sender was told is kept: the ground truth. */
export interface Put {
  n: number
  /** Epoch ms. */
  at: number
  key: string
  /** As it was sent. */
  octets: Buffer
  fate: Fate
}

type Answer = readonly [status: number, body?: string | Buffer, headers?: Record<string, string>]

const md5 = (octets: Buffer) => createHash('md5').update(octets)
const xml = (text: string) => text.replace(/[<>&"]/g, (c) => `&#${c.charCodeAt(0)};`)
const refusal = (status: number, code: string, message: string): Answer => [
  status,
  `<?xml version="1.0" encoding="UTF-8"?>\n<Error><Code>${xml(code)}</Code><Message>${xml(message)}</Message></Error>`,
]
const BODY_MOST = 256 << 20

/** An object store with one bucket: put, get, head, delete, list by prefix in pages, and objects in parts. All in memory. */
export class ObjectStoreStandin {
  readonly faults = new Faults()
  readonly puts: Put[] = []
  readonly kept = new Map<string, Buffer>()
  private readonly uploads = new Map<string, { key: string; parts: Map<number, Buffer> }>()
  private readonly sockets = new Set<Socket>()
  private shut: NodeJS.Timeout | null = null
  private octets = 0
  private uploadCount = 0
  requests = 0

  private constructor(
    private readonly server: Server,
    private readonly o: ObjectStoreOptions,
  ) {}

  static async start(o: ObjectStoreOptions): Promise<ObjectStoreStandin> {
    const server = o.tls ? createSecureServer(o.tls) : createServer()
    const store = new ObjectStoreStandin(server, o)
    server.on('connection', (socket) => store.took(socket))
    server.on('request', (req, res) => void store.serve(req, res).catch(() => res.destroy()))
    await new Promise<void>((done, failed) => {
      server.once('error', failed)
      server.listen(o.port, '127.0.0.1', done)
    })
    return store
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

  setFaults(faults: ObjectFaults): void {
    this.faults.set(faults)
  }

  isShut(): boolean {
    return this.shut !== null
  }

  /** Nobody gets through for so long. */
  cut(seconds: number): void {
    if (this.shut) clearTimeout(this.shut)
    this.shut = setTimeout(() => {
      this.shut = null
    }, seconds * 1000)
    for (const socket of this.sockets) socket.destroy()
  }

  /** Parts that were sent and are of no object yet. */
  get partsOpen(): number {
    return [...this.uploads.values()].reduce((n, { parts }) => n + parts.size, 0)
  }

  /** Objects that are sent in parts and not put together yet, by the names that the store gave them. */
  get uploadsOpen(): string[] {
    return [...this.uploads.keys()]
  }

  /** Somebody begins to send an object in parts. */
  begin(key: string): string {
    const id = `upload-${++this.uploadCount}`
    this.uploads.set(id, { key, parts: new Map() })
    return id
  }

  private async serve(req: IncomingMessage, res: ServerResponse): Promise<void> {
    this.requests++
    const chunks: Buffer[] = []
    let octets = 0
    for await (const chunk of req) {
      octets += (chunk as Buffer).length
      if (octets <= BODY_MOST) chunks.push(chunk as Buffer)
    }
    const { settings } = this.faults
    if (settings.slowMs > 0) await new Promise((go) => setTimeout(go, settings.slowMs))
    const answer = octets > BODY_MOST ? refusal(413, 'EntityTooLarge', 'too large') : this.answer(req, Buffer.concat(chunks))
    if (res.destroyed) return
    const keeps = req.method === 'PUT' || req.method === 'POST'
    if (keeps && answer[0] < 300 && this.faults.happens(settings.loseAnswer)) return void res.destroy()
    const [status, body = '', headers = {}] =
      keeps && answer[0] < 300 && this.faults.happens(settings.failAfter) ? refusal(500, 'InternalError', 'it failed after it was done') : answer
    const type = Buffer.isBuffer(body) ? 'application/octet-stream' : 'application/xml'
    res.writeHead(status, { date: new Date(Date.now() + settings.clockS * 1000).toUTCString(), 'content-type': type, ...headers })
    res.end(req.method === 'HEAD' ? '' : body)
  }

  private answer(req: IncomingMessage, body: Buffer): Answer {
    const { settings } = this.faults
    const { bucket, keys, region = 'us-east-1' } = this.o
    const url = new URL(req.url ?? '/', 'http://store')
    const who = whoSigned(req, body, (key) => (settings.refuseLogins || !Object.hasOwn(keys, key) ? null : keys[key]!.secret), {
      region,
      now: Date.now() + settings.clockS * 1000,
    })
    if ('wrong' in who) return refusal(who.wrong[0] === 'AuthorizationHeaderMalformed' ? 400 : 403, ...who.wrong)
    const [, first = '', ...rest] = url.pathname.split('/').map(decodeURIComponent)
    if (first !== bucket) return refusal(404, 'NoSuchBucket', `there is no bucket ${first}`)
    const key = rest.join('/')
    const may = keys[who.key]!
    const reads = req.method === 'GET' || req.method === 'HEAD'
    const prefix = key === '' ? (url.searchParams.get('prefix') ?? '') : key
    if (!(reads ? may.read : may.write).some((p) => prefix.startsWith(p))) return refusal(403, 'AccessDenied', 'not allowed for this key')
    if (settings.errorOn !== '' && key.includes(settings.errorOn)) return refusal(settings.status, settings.code, 'as was asked for')
    if (settings.busy) return refusal(503, 'SlowDown', 'fewer requests, please')
    if (key === '') return reads ? this.look(url) : refusal(405, 'MethodNotAllowed', 'nothing of that kind')
    return this.object(req, url, key, body)
  }

  private look(url: URL): Answer {
    const prefix = url.searchParams.get('prefix') ?? ''
    const encode = url.searchParams.get('encoding-type') === 'url' ? encodeURIComponent : xml
    if (url.searchParams.has('uploads')) {
      const all = [...this.uploads].filter(([, u]) => u.key.startsWith(prefix))
      const uploads = all.map(([id, u]) => `<Upload><Key>${encode(u.key)}</Key><UploadId>${id}</UploadId></Upload>`)
      return [200, `<ListMultipartUploadsResult>${uploads.join('')}</ListMultipartUploadsResult>`]
    }
    const after = Buffer.from(url.searchParams.get('continuation-token') ?? '', 'base64url').toString('utf8')
    const most = Math.min(1000, Number(url.searchParams.get('max-keys') ?? 1000))
    const keys = [...this.kept.keys()].filter((k) => k.startsWith(prefix) && k > after).sort()
    const page = keys.slice(0, most)
    const more = keys.length > page.length
    const contents = page.map((k) => `<Contents><Key>${encode(k)}</Key><Size>${this.kept.get(k)!.length}</Size></Contents>`).join('')
    const next = more ? `<NextContinuationToken>${Buffer.from(page.at(-1)!).toString('base64url')}</NextContinuationToken>` : ''
    return [200, `<ListBucketResult><IsTruncated>${more}</IsTruncated>${contents}${next}</ListBucketResult>`]
  }

  private object(req: IncomingMessage, url: URL, key: string, body: Buffer): Answer {
    const uploadId = url.searchParams.get('uploadId')
    if (req.method === 'GET' || req.method === 'HEAD') {
      const there = this.kept.get(key)
      return there ? [200, there, { etag: this.sum(there) }] : refusal(404, 'NoSuchKey', 'there is no such object')
    }
    if (req.method === 'DELETE') {
      if (uploadId !== null) this.uploads.delete(uploadId)
      else this.forget(key)
      return [204]
    }
    const sum = req.headers['content-md5']
    if (sum !== undefined && sum !== md5(body).digest('base64')) return refusal(400, 'BadDigest', 'the checksum is another')
    if (this.faults.settings.full) return refusal(507, 'InsufficientStorage', 'no room left')
    if (req.method === 'POST' && url.searchParams.has('uploads')) {
      const id = this.begin(key)
      return [200, `<InitiateMultipartUploadResult><UploadId>${id}</UploadId></InitiateMultipartUploadResult>`]
    }
    if (uploadId !== null) return this.part(req, url, uploadId, key, body)
    if (req.method !== 'PUT') return refusal(405, 'MethodNotAllowed', 'nothing of that kind')
    this.keep(key, body)
    return [200, '', { etag: this.sum(body) }]
  }

  private part(req: IncomingMessage, url: URL, uploadId: string, key: string, body: Buffer): Answer {
    const upload = this.uploads.get(uploadId)
    if (upload?.key !== key) return refusal(404, 'NoSuchUpload', 'there is no such upload')
    if (req.method === 'PUT') {
      upload.parts.set(Number(url.searchParams.get('partNumber')), body)
      return [200, '', { etag: this.sum(body) }]
    }
    const wanted = [...body.toString('utf8').matchAll(/<PartNumber>(\d+)<\/PartNumber>/g)].map((m) => upload.parts.get(Number(m[1])))
    if (wanted.length === 0 || wanted.some((p) => p === undefined)) return refusal(400, 'InvalidPart', 'a part is missing')
    const parts = wanted as Buffer[]
    this.uploads.delete(uploadId)
    this.keep(key, Buffer.concat(parts))
    const sums = Buffer.concat(parts.map((p) => md5(p).digest()))
    const etag = this.faults.settings.ownSums ? '"of-its-own"' : `"${md5(sums).digest('hex')}-${parts.length}"`
    return [200, `<CompleteMultipartUploadResult><ETag>${xml(etag)}</ETag></CompleteMultipartUploadResult>`]
  }

  private sum(octets: Buffer): string {
    const { ownSums } = this.faults.settings
    return `"${(ownSums ? md5(Buffer.concat([octets, Buffer.from('salt')])) : md5(octets)).digest('hex')}"`
  }

  private keep(key: string, octets: Buffer): void {
    const fate = this.faults.fate()
    this.puts.push({ n: (this.puts.at(-1)?.n ?? 0) + 1, at: Date.now(), key, octets, fate })
    if (this.puts.length > 20_000) this.puts.shift()
    if (fate === 'dropped') return
    this.place(key, fate === 'altered' ? this.faults.altered(octets) : octets)
    if (fate === 'doubled') this.place(twin(key), octets)
  }

  private place(key: string, octets: Buffer): void {
    this.forget(key)
    this.kept.set(key, octets)
    this.octets += octets.length
    for (const [oldest] of this.kept) {
      if (this.octets <= (this.o.most ?? 256 << 20)) return
      this.forget(oldest)
    }
  }

  private forget(key: string): void {
    this.octets -= this.kept.get(key)?.length ?? 0
    this.kept.delete(key)
  }

  async stop(): Promise<void> {
    if (this.shut) clearTimeout(this.shut)
    const closed = new Promise((done) => this.server.close(done))
    for (const socket of this.sockets) socket.destroy()
    await closed
  }
}

/** The name under which a copy lies that nobody sent: as if a sender had written the same messages once more, a second later. */
function twin(key: string): string {
  return key.replace(/\.(\d{8}T\d{6})Z\./, (_, stamp: string) => `.${stamp.slice(0, -1)}${(Number(stamp.at(-1)) + 1) % 10}Z.`)
}
