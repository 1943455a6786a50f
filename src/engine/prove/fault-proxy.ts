import { connect, createServer, type Server, type Socket } from 'node:net'
import type { ProofFault } from '~/contract/prove'
import { reach } from '../net/reach'

type How = Pick<ProofFault, 'kind' | 'way' | 'ms' | 'octetsPerS'>

/** What is not passed on yet is at most so much each way, octets: then whoever says it is not read. */
const HELD_MOST = 1 << 20

/** One direction of a connection: passes octets on, later, fewer at once, or not at all. */
class Passage {
  private readonly held: { chunk: Buffer; due: number }[] = []
  private octets = 0
  private free = 0
  private timer: NodeJS.Timeout | null = null

  constructor(
    private readonly from: Socket,
    private readonly to: Socket,
    private readonly there: boolean,
    private readonly how: () => How | null,
  ) {
    from.on('data', (chunk: Buffer) => this.take(chunk))
    from.on('end', () => this.take(null))
  }

  private take(chunk: Buffer | null): void {
    const how = this.how()
    const now = performance.now()
    let due = how?.kind === 'slow' ? now + how.ms : now
    if (how?.kind === 'thin' && chunk) {
      this.free = Math.max(this.free, now) + (chunk.length * 1000) / how.octetsPerS
      due = this.free
    }
    // What came before goes before.
    due = Math.max(due, this.held.at(-1)?.due ?? 0)
    this.held.push({ chunk: chunk ?? Buffer.alloc(0), due })
    this.octets += chunk?.length ?? 0
    if (this.octets > HELD_MOST) this.from.pause()
    if (chunk === null) this.ended = true
    this.pass()
  }

  private ended = false

  /** Nothing comes through this way now, and nobody is told; it comes later, as what TCP repeats after a link was dead for a while. */
  private get silent(): boolean {
    const how = this.how()
    return how?.kind === 'silent' && (how.way === 'both' || (how.way === 'there') === this.there)
  }

  /** Passes on what is due; called again when the way fails otherwise, or no more. */
  pass(): void {
    if (this.silent) return
    const now = performance.now()
    while (this.held.length > 0 && this.held[0]!.due <= now) {
      const { chunk } = this.held.shift()!
      this.octets -= chunk.length
      if (chunk.length > 0 && this.to.writable && !this.to.write(chunk)) {
        this.from.pause()
        this.to.once('drain', () => this.from.resume())
      }
    }
    if (this.octets <= HELD_MOST && this.from.isPaused() && !this.to.writableNeedDrain) this.from.resume()
    if (this.held.length === 0) {
      if (this.ended) this.to.end()
      return
    }
    this.timer ??= setTimeout(
      () => {
        this.timer = null
        this.pass()
      },
      Math.max(1, this.held[0]!.due - now),
    )
  }

  stop(): void {
    if (this.timer) clearTimeout(this.timer)
  }
}

/** Stands between this engine and one address, and fails on purpose. */
export class FaultProxy {
  private readonly pairs = new Set<{ near: Socket; far: Socket; passages: Passage[] }>()
  private now: How | null = null

  private constructor(
    private readonly server: Server,
    readonly port: number,
  ) {}

  static async open(host: string, port: number): Promise<FaultProxy> {
    const server = createServer({ noDelay: true })
    await new Promise<void>((done, failed) => {
      server.once('error', failed)
      server.listen(0, '127.0.0.1', done)
    })
    const proxy = new FaultProxy(server, (server.address() as { port: number }).port)
    server.on('connection', (near) => proxy.came(near, host, port))
    return proxy
  }

  private came(near: Socket, host: string, port: number): void {
    if (this.now?.kind === 'cut' || this.now?.kind === 'refuse') {
      near.resetAndDestroy()
      return
    }
    const far = connect({ ...reach.straight(host, port), noDelay: true })
    const how = () => this.now
    const pair = { near, far, passages: [new Passage(near, far, true, how), new Passage(far, near, false, how)] }
    this.pairs.add(pair)
    const over = () => {
      near.destroy()
      far.destroy()
      for (const p of pair.passages) p.stop()
      this.pairs.delete(pair)
    }
    for (const socket of [near, far]) socket.on('error', over).on('close', over)
  }

  /** How many connections go through it. */
  get connections(): number {
    return this.pairs.size
  }

  /** From now on it fails in this way; null: it does not. */
  set(how: How | null): void {
    this.now = how
    if (how?.kind === 'cut' || how?.kind === 'kill') this.reset()
    else for (const { passages } of this.pairs) for (const passage of passages) passage.pass()
  }

  private reset(): void {
    for (const { near, far } of [...this.pairs]) {
      near.resetAndDestroy()
      far.resetAndDestroy()
    }
  }

  async close(): Promise<void> {
    this.reset()
    await new Promise<void>((done) => this.server.close(() => done()))
  }
}
