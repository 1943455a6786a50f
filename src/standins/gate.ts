import { connect, createServer, type Server, type Socket } from 'node:net'
import { delayed } from './delayed'

/** A door in front of a server on this machine, so that its link can be cut: while shut, connections are reset at once. */
export class Gate {
  private readonly sockets = new Set<Socket>()
  private shutUntil = 0
  /** Everything passes so much later, ms, each way. */
  slowMs = 0

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
      for (const [from, to] of [
        [near, far],
        [far, near],
      ] as const) {
        const pass = delayed(
          () => gate.slowMs,
          (chunk: Buffer) => {
            if (to.writable && !to.write(chunk)) {
              from.pause()
              to.once('drain', () => from.resume())
            }
          },
        )
        from.on('data', pass)
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

  async close(): Promise<void> {
    for (const s of this.sockets) s.destroy()
    await new Promise<void>((done) => this.server.close(() => done()))
  }
}
