import type { Socket } from 'node:net'
import { errors, type RequestName, requestOf, requests } from './api'
import type { Cluster, Exchange, Handlers } from './exchange'
import { fetchHandlers } from './fetch'
import { beginLogin, type Login, type Mechanism, mechanisms, type Users } from './logins'
import { membershipHandlers } from './membership'
import { metadataHandlers } from './metadata'
import { Malformed, Reader, Writer } from './octets'
import { produceHandlers } from './produce'

const handlers: Handlers = { ...metadataHandlers, ...produceHandlers, ...fetchHandlers, ...membershipHandlers }
/** A request may be so long at most. */
const MOST_OCTETS = 100 << 20
/** What may be asked before the log-in. */
const open: ReadonlySet<RequestName> = new Set(['apiVersions', 'saslHandshake', 'saslAuthenticate'])

export interface ConnectionOptions {
  cluster: Cluster
  node: number
  listener: string
  /** null: nobody has to log in. */
  users: Users | null
}

/** One client: its requests are answered one after the other, in their order. */
export class Connection {
  private pending: Buffer[] = []
  private length = 0
  private queue: Promise<void> = Promise.resolve()
  private login: Login | null = null
  private user: string | null
  private readonly gone: Promise<void>

  constructor(
    private readonly socket: Socket,
    private readonly o: ConnectionOptions,
  ) {
    this.user = o.users === null ? 'anonymous' : null
    this.gone = new Promise((done) => socket.once('close', () => done()))
    socket.on('error', () => socket.destroy())
    socket.on('data', (octets: Buffer) => this.took(octets))
  }

  private took(octets: Buffer): void {
    this.pending.push(octets)
    this.length += octets.length
    for (;;) {
      if (this.length < 4) return
      let all = this.pending.length === 1 ? this.pending[0]! : Buffer.concat(this.pending)
      const size = all.readInt32BE(0)
      if (size < 8 || size > MOST_OCTETS) return void this.socket.destroy()
      if (all.length < size + 4) {
        this.pending = [all]
        return
      }
      const frame = all.subarray(4, size + 4)
      all = all.subarray(size + 4)
      this.pending = all.length > 0 ? [all] : []
      this.length = all.length
      this.queue = this.queue.then(() => this.answer(frame)).catch(() => void this.socket.destroy())
    }
  }

  private async answer(frame: Buffer): Promise<void> {
    if (this.socket.destroyed) return
    const head = new Reader(frame)
    const [key, version, correlation, clientId] = [head.int16(), head.int16(), head.int32(), head.name()]
    const name = requestOf.get(key)
    if (!name) throw new Malformed(`request ${key}`)
    const { from, to, flexible } = requests[name]
    const send = (body: Writer) => {
      const header = new Writer(body.flexible && name !== 'apiVersions').int32(correlation).tags()
      const octets = [header.done(), body.done()]
      const size = octets.reduce((n, part) => n + part.length, 0)
      this.socket.write(Buffer.concat([new Writer().int32(size).done(), ...octets]))
    }
    if (version < from || version > to) {
      // Only this one may be asked in a version that nobody agreed on: it is answered in the oldest.
      if (name !== 'apiVersions') throw new Malformed(`${name} in version ${version}`)
      const oldest = new Writer().int16(errors.unsupportedVersion)
      oldest.list([requests.apiVersions], (r) => oldest.int16(r.key).int16(r.from).int16(r.to))
      return send(oldest)
    }
    head.flexible = version >= flexible
    head.tags()
    if (this.user === null && !open.has(name)) throw new Malformed(`${name} before the log-in`)
    const { cluster, node, listener } = this.o
    const write = new Writer(version >= flexible)
    const { slowMs } = cluster.faults.settings
    if (name === 'saslHandshake' || name === 'saslAuthenticate') {
      const stays = name === 'saslHandshake' ? this.handshake(head, write) : this.authenticate(head, write, version)
      send(write)
      if (!stays) this.socket.end()
      return
    }
    const e: Exchange = { cluster, read: head, write, version, clientId, user: this.user ?? '', node, listener, gone: this.gone }
    const outcome = await handlers[name]!(e)
    if (slowMs > 0) await Promise.race([this.gone, new Promise((done) => setTimeout(done, slowMs))])
    if (outcome === 'lost') this.socket.destroy()
    else if (outcome === 'answer' && !this.socket.destroyed) send(write)
  }

  private handshake(read: Reader, write: Writer): boolean {
    const wanted = read.name()
    const known = this.o.users !== null && (mechanisms as readonly string[]).includes(wanted)
    if (known) this.login = beginLogin(wanted as Mechanism, this.o.users!)
    write.int16(known ? errors.none : errors.unsupportedSaslMechanism).list(mechanisms, (m) => write.text(m))
    return known
  }

  private authenticate(read: Reader, write: Writer, version: number): boolean {
    const octets = read.bytes() ?? Buffer.alloc(0)
    const { refuseLogins } = this.o.cluster.faults.settings
    const said = !this.login
      ? ({ kind: 'refused', words: 'No mechanism was chosen' } as const)
      : refuseLogins
        ? ({ kind: 'refused', words: 'Authentication failed: log-ins are refused' } as const)
        : this.login.said(octets)
    if (said.kind === 'in') this.user = said.user
    const error = said.kind !== 'refused' ? errors.none : this.login ? errors.saslAuthenticationFailed : errors.illegalSaslState
    write
      .int16(error)
      .text(said.kind === 'refused' ? said.words : null)
      .bytes(said.kind === 'refused' ? Buffer.alloc(0) : said.octets)
    if (version >= 1) write.int64(0)
    write.tags()
    return said.kind !== 'refused'
  }
}
