import { createServer, type Socket } from 'node:net'

/** Something on a port of its own that answers connections in its own way, and ends with what is `open`. Gives the port. */
export async function talker(answer: (socket: Socket) => void, open: { stop(): unknown }[]): Promise<number> {
  const sockets = new Set<Socket>()
  const server = createServer((s) => {
    sockets.add(s)
    s.on('error', () => undefined)
    answer(s)
  })
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
  open.push({
    stop: () => {
      for (const s of sockets) s.destroy()
      return new Promise((done) => server.close(done))
    },
  })
  return (server.address() as { port: number }).port
}
