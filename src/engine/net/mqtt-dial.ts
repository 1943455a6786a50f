import type { MqttAccess } from './mqtt-access'
import { openWire } from './mqtt-socket'
import type { Dial, Wire } from './wire'

/** Over TCP, TLS or WebSockets, through a proxy where there is one. */
export const dialMqtt: Dial<MqttAccess> = async (access, sink) => {
  const socket = await openWire(access)
  let why: unknown = Object.assign(new Error('connection closed'), { code: 'ECONNRESET' })
  socket.on('data', (chunk: Buffer) => sink.data(chunk))
  socket.on('drain', () => sink.drained())
  socket.on('error', (e) => {
    why = e
  })
  socket.on('close', () => sink.closed(why))
  const wire: Wire = {
    write: (bytes) => {
      if (socket.writable) socket.write(bytes)
    },
    get pending() {
      return socket.writableLength
    },
    end: () => {
      socket.end()
      // A peer that does not answer must not keep it for ever.
      setTimeout(() => socket.destroy(), 500).unref()
    },
    destroy: (reason) => {
      if (reason !== undefined) why = reason
      socket.destroy()
    },
  }
  return wire
}
