import type { Socket } from 'node:net'

const ROOM = 64 * 1024

/**
 * Puts the many small writes of one turn of the event loop into one. A packet encoder hands out a dozen pieces a packet,
 * and every piece costs as much as a whole buffer would.
 */
export function gatherWrites(socket: Socket): void {
  const writeNow = socket.write.bind(socket) as (chunk: Uint8Array) => boolean
  const endNow = socket.end.bind(socket) as (...rest: unknown[]) => Socket
  let room = Buffer.allocUnsafe(ROOM)
  let at = 0
  const flush = () => {
    if (at === 0) return
    const full = room.subarray(0, at)
    room = Buffer.allocUnsafe(ROOM)
    at = 0
    if (socket.writable) writeNow(full)
  }
  const write = (chunk: string | Uint8Array, encoding?: unknown, callback?: unknown): boolean => {
    if (at === 0) process.nextTick(flush)
    if (typeof chunk === 'string') {
      const size = Buffer.byteLength(chunk, typeof encoding === 'string' ? (encoding as BufferEncoding) : 'utf8')
      if (at + size > ROOM) flush()
      if (size > ROOM) writeNow(Buffer.from(chunk, encoding as BufferEncoding))
      else at += room.write(chunk, at, encoding as BufferEncoding)
    } else {
      if (at + chunk.length > ROOM) flush()
      if (chunk.length > ROOM) writeNow(chunk)
      else {
        room.set(chunk, at)
        at += chunk.length
      }
    }
    const done = typeof encoding === 'function' ? encoding : callback
    if (typeof done === 'function') process.nextTick(done)
    return !socket.writableNeedDrain
  }
  socket.write = write as typeof socket.write
  socket.end = ((...rest: unknown[]) => {
    flush()
    return endNow(...rest)
  }) as typeof socket.end
  // What gathers here needs no gathering of the stream's own.
  socket.cork = () => undefined
  socket.uncork = () => undefined
}
