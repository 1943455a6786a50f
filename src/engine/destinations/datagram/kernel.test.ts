import { createSocket } from 'node:dgram'
import { expect, it } from 'vitest'
import { heldFor, listed } from './kernel'

it('reads what Linux lists, and leaves out what is no socket', () => {
  const text = `   sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode ref pointer drops
 1234: 0100007F:1F90 00000000:0000 07 00000000:00000B00 00:00000000 00000000  1000        0 98765 2 0000000000000000 17
77: 00000000000000000000000001000000:12E8 00000000000000000000000000000000:0000 07 00000000:00000000 00:00000000 00000000     0        0 55 2 0000000000000000 0

damaged: line`
  expect(listed(text)).toEqual([
    { port: 8080, inode: '98765', waiting: 2816, dropped: 17 },
    { port: 4840, inode: '55', waiting: 0, dropped: 0 },
  ])
})

it("knows the sockets of this process by their port, and nobody else's", async () => {
  const socket = createSocket('udp4')
  await new Promise<void>((done) => socket.bind({ address: '127.0.0.1', port: 0 }, done))
  const { port } = socket.address()
  const sender = createSocket('udp4')
  await new Promise((done) => sender.send(Buffer.alloc(100), port, '127.0.0.1', done))
  const held = await heldFor(new Set([port]))
  expect([...held!.dropped.values()]).toEqual([0])
  expect(await heldFor(new Set())).toEqual({ waiting: 0, dropped: new Map() })
  socket.close()
  sender.close()
})
