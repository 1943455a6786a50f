import { connect, createServer, type Server, type Socket } from 'node:net'
import { delayed } from './delayed'

/** A door in front of a server on this machine, so that its link can be cut: while shut, connections are reset at once. */
export class Gate {
  private readonly sockets = new Set<Socket>()
  private shutUntil = 0
  /** Everything passes so much later, ms, each way. */
  slowMs = 0
  /** Octets a second each way; null: as many as come. */
  bytesPerS: number | null = null
  /** Octets that came through since it was opened: to the server, and from it. */
  readonly passed = { up: 0, down: 0 }
  /** Octets into a direction vanish, and nobody is told: to the server, or from it. For connections that are there and new ones. */
  deaf = { up: false, down: false }
  /** Each connection is reset after so many octets either way, drawn anew; null: none is. */
  cutAfter: (() => number) | null = null

  private constructor(private readonly server: Server) {}

  static async open(port: number, target: number): Promise<Gate> {
    const server = createServer({ noDelay: true })
    const gate = new Gate(server)
    server.on('connection', (near) => {
      if (gate.isShut()) {
        near.resetAndDestroy()
        return
      }
      const far = connect({ port: target, host: '127.0.0.1', noDelay: true })
      gate.keep(near)
      gate.keep(far)
      let left = gate.cutAfter?.() ?? Number.POSITIVE_INFINITY
      for (const [from, to, up] of [
        [near, far, true],
        [far, near, false],
      ] as const) {
        const write = (chunk: Buffer) => {
          if (to.writable && !to.write(chunk)) {
            from.pause()
            to.once('drain', () => from.resume())
          }
        }
        const pass = delayed(() => gate.slowMs, gate.trickled(from, write))
        from.on('data', (chunk: Buffer) => {
          if (up ? gate.deaf.up : gate.deaf.down) return
          gate.passed[up ? 'up' : 'down'] += chunk.length
          left -= chunk.length
          if (left >= 0) return pass(chunk)
          // Somewhere in the middle of what is being said.
          pass(chunk.subarray(0, chunk.length + left))
          setImmediate(() => {
            near.resetAndDestroy()
            far.resetAndDestroy()
          })
        })
        from.on('end', () => to.end())
      }
      const end = () => {
        near.destroy()
        far.destroy()
      }
      near.on('error', end).on('close', end)
      far.on('error', end).on('close', end)
    })
    await new Promise<void>((done, failed) => {
      server.once('error', failed)
      server.listen(port, '127.0.0.1', done)
    })
    return gate
  }

  /** Passes on no more than `bytesPerS`, while that is set. */
  private trickled(from: Socket, write: (chunk: Buffer) => void): (chunk: Buffer) => void {
    let free = 0
    return (chunk) => {
      const now = performance.now()
      if (this.bytesPerS === null && free <= now) return write(chunk)
      free = Math.max(free, now) + (chunk.length * 1000) / (this.bytesPerS ?? Number.POSITIVE_INFINITY)
      from.pause()
      setTimeout(() => {
        write(chunk)
        from.resume()
      }, free - now)
    }
  }

  private keep(socket: Socket): void {
    this.sockets.add(socket)
    socket.on('close', () => this.sockets.delete(socket))
  }

  isShut(): boolean {
    return Date.now() < this.shutUntil
  }

  /** Resets every connection and refuses new ones for so many seconds. */
  cut(seconds: number): void {
    this.shutUntil = Date.now() + seconds * 1000
    for (const s of this.sockets) s.resetAndDestroy()
  }

  /** Ends a cut before its time. */
  mend(): void {
    this.shutUntil = 0
  }

  async close(): Promise<void> {
    for (const s of this.sockets) s.destroy()
    await new Promise<void>((done) => this.server.close(() => done()))
  }
}
