import { connect, createServer, type Server, type Socket } from 'node:net'

export interface ProxyOptions {
  port: number
  /** Null: it asks nobody who they are. */
  login: { user: string; password: string } | null
  /** Hosts and ports that may be reached, as host:port; null: all. */
  permits?: readonly string[] | null
  /** Names that it knows, beside those that this machine resolves. */
  names?: Readonly<Record<string, string>>
}

/** What is to go wrong, by a test. */
export interface ProxyTemper {
  /** It takes the connection and says nothing. */
  silent: boolean
}

/** Octets of a request that has no end. */
const REQUEST_MAX = 16_384

/** A proxy as plants have them: HTTP CONNECT (RFC 9110 9.3.6) and SOCKS 5 (RFC 1928, 1929) on one port. */
export class PlantProxy {
  readonly temper: ProxyTemper = { silent: false }
  /** Where somebody went through it, as host:port, in order. */
  readonly ways: string[] = []
  private readonly sockets = new Set<Socket>()

  private constructor(
    private readonly server: Server,
    private readonly o: ProxyOptions,
  ) {
    server.on('connection', (near: Socket) => this.accept(near))
  }

  static async start(o: ProxyOptions): Promise<PlantProxy> {
    const server = createServer({ noDelay: true })
    const proxy = new PlantProxy(server, o)
    await new Promise<void>((done, failed) => {
      server.once('error', failed)
      server.listen(o.port, '127.0.0.1', () => done())
    })
    return proxy
  }

  private keep(socket: Socket): void {
    this.sockets.add(socket)
    socket.on('close', () => this.sockets.delete(socket))
    socket.on('error', () => socket.destroy())
  }

  private accept(near: Socket): void {
    this.keep(near)
    let heard: Buffer = Buffer.alloc(0)
    let step: (octets: Buffer) => Buffer | null = (octets) => {
      step = octets[0] === 5 ? this.socks(near, (next) => (step = next)) : (all) => this.http(near, all)
      return step(octets)
    }
    const hear = (chunk: Buffer) => {
      if (this.temper.silent) return
      heard = Buffer.concat([heard, chunk])
      if (heard.length > REQUEST_MAX) return void near.destroy()
      for (let rest: Buffer | null = heard; rest && rest.length > 0; ) {
        const before: number = rest.length
        rest = step(rest)
        // A way stands: what was read beyond the request goes there.
        if (rest === null) return void near.off('data', hear)
        heard = rest
        if (rest.length === before) return
      }
    }
    near.on('data', hear)
  }

  /** Joins the two, or says why not; `said` is told to the near side when the way stands. */
  private join(near: Socket, host: string, port: number, rest: Buffer, said: Buffer, failed: () => void): null {
    this.ways.push(`${host}:${port}`)
    const far = connect({ host: this.o.names?.[host] ?? host, port, noDelay: true })
    this.keep(far)
    near.pause()
    far.once('connect', () => {
      near.write(said)
      if (rest.length > 0) far.write(rest)
      near.pipe(far)
      far.pipe(near)
    })
    const end = () => {
      near.destroy()
      far.destroy()
    }
    far.once('error', () => (far.connecting || far.bytesRead === 0 ? failed() : end()))
    far.once('close', () => near.end())
    near.once('close', () => far.destroy())
    return null
  }

  private forbids(host: string, port: number): boolean {
    const { permits = null } = this.o
    return permits !== null && !permits.includes(`${host}:${port}`)
  }

  private http(near: Socket, all: Buffer): Buffer | null {
    const end = all.indexOf('\r\n\r\n')
    if (end < 0) return all
    const no = (status: string, more = '') => {
      near.end(`HTTP/1.1 ${status}\r\n${more}content-length: 0\r\nconnection: close\r\n\r\n`)
      return null
    }
    const [first = '', ...lines] = all.subarray(0, end).toString('latin1').split('\r\n')
    const asked = /^CONNECT (\[[^\]]+\]|[^:\s]+):(\d+) HTTP\/1\.[01]$/.exec(first)
    if (!asked) return no('405 Method Not Allowed')
    const { login } = this.o
    const given = lines.map((l) => /^proxy-authorization:\s*Basic\s+(\S+)$/i.exec(l)?.[1]).find(Boolean)
    if (login && Buffer.from(given ?? '', 'base64').toString() !== `${login.user}:${login.password}`)
      return no('407 Proxy Authentication Required', 'proxy-authenticate: Basic realm="works"\r\n')
    const [host, port] = [asked[1]!.replace(/^\[|\]$/g, ''), Number(asked[2])]
    if (this.forbids(host, port)) return no('403 Forbidden')
    const stands = Buffer.from('HTTP/1.1 200 Connection established\r\n\r\n')
    return this.join(near, host, port, all.subarray(end + 4), stands, () => no('502 Bad Gateway'))
  }

  /** The three steps of SOCKS 5: which way to log in, the log-in, where to. Each gives what it left over, or null when the way stands. */
  private socks(near: Socket, next: (step: (octets: Buffer) => Buffer | null) => void): (octets: Buffer) => Buffer | null {
    const { login } = this.o
    const answer = (code: number) => Buffer.from([5, code, 0, 1, 0, 0, 0, 0, 0, 0])
    const no = (...octets: number[]) => {
      near.end(Buffer.from(octets))
      return null
    }
    const where = (b: Buffer): Buffer | null => {
      if (b.length < 7) return b
      const long = b[3] === 1 ? 4 : b[3] === 4 ? 16 : 1 + b[4]!
      if (b.length < 4 + long + 2) return b
      const raw = b.subarray(b[3] === 3 ? 5 : 4, 4 + long)
      const host = b[3] === 3 ? raw.toString('latin1') : b[3] === 1 ? [...raw].join('.') : (raw.toString('hex').match(/..../g) ?? []).join(':')
      const port = b.readUInt16BE(4 + long)
      const refused = (code: number) => no(...answer(code))
      if (b[1] !== 1) return refused(7)
      if (this.forbids(host, port)) return refused(2)
      return this.join(near, host, port, b.subarray(6 + long), answer(0), () => refused(5))
    }
    const who = (b: Buffer): Buffer | null => {
      const user = b[1] ?? 0
      const secret = b[2 + user] ?? 0
      if (b.length < 3 + user + secret) return b
      const is = `${b.subarray(2, 2 + user)}:${b.subarray(3 + user, 3 + user + secret)}`
      if (is !== `${login!.user}:${login!.password}`) return no(1, 1)
      near.write(Buffer.from([1, 0]))
      next(where)
      return b.subarray(3 + user + secret)
    }
    return (b) => {
      const many = b[1] ?? 0
      if (b.length < 2 + many) return b
      const method = login ? 2 : 0
      if (!b.subarray(2, 2 + many).includes(method)) return no(5, 0xff)
      near.write(Buffer.from([5, method]))
      next(login ? who : where)
      return b.subarray(2 + many)
    }
  }

  async stop(): Promise<void> {
    for (const socket of this.sockets) socket.destroy()
    await new Promise<void>((done) => this.server.close(() => done()))
  }
}
