// A wire between client and broker on which every packet is read by a library that knows MQTT and not us.
import { createServer, connect as dial, type Socket } from 'node:net'
import { type Packet, parser } from 'mqtt-packet'
import { freePort } from './support'

export interface Recorded {
  /** Counts up by one a connection. */
  connection: number
  from: 'client' | 'broker'
  packet: Packet
}

/** Passes everything on to a plain port of the broker and keeps what it read. */
export async function recorder(target: number) {
  const port = await freePort()
  const packets: Recorded[] = []
  const sockets = new Set<Socket>()
  let connections = 0
  const server = createServer((client) => {
    const connection = ++connections
    const broker = dial(target, '127.0.0.1')
    for (const [socket, other, from] of [
      [client, broker, 'client'],
      [broker, client, 'broker'],
    ] as const) {
      sockets.add(socket)
      const read = parser({ protocolVersion: 5 })
      read.on('packet', (packet) => packets.push({ connection, from, packet }))
      socket.on('data', (chunk) => {
        read.parse(chunk)
        other.write(chunk)
      })
      socket.on('error', () => undefined)
      socket.on('close', () => {
        sockets.delete(socket)
        other.destroy()
      })
    }
  })
  await new Promise<void>((done) => server.listen(port, '127.0.0.1', done))
  return {
    port,
    packets,
    /** Ends every connection at once, without a word. */
    cut: () => {
      for (const s of sockets) s.destroy()
    },
    stop: async () => {
      for (const s of sockets) s.destroy()
      await new Promise<void>((done) => server.close(() => done()))
    },
  }
}
