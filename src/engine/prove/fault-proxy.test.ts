import { connect, createServer, type Server, type Socket } from 'node:net'
import { afterAll, afterEach, beforeAll, beforeEach, expect, it } from 'vitest'
import type { ProofFault } from '~/contract/prove'
import { FaultProxy } from './fault-proxy'

let echo: Server
let proxy: FaultProxy
const open: Socket[] = []
beforeAll(async () => {
  echo = createServer((socket) => {
    socket.on('error', () => undefined)
    socket.pipe(socket)
  })
  await new Promise<void>((done) => echo.listen(0, '127.0.0.1', done))
})
beforeEach(async () => {
  proxy = await FaultProxy.open('127.0.0.1', (echo.address() as { port: number }).port)
})
afterEach(async () => {
  for (const socket of open.splice(0)) socket.destroy()
  await proxy.close()
})
afterAll(() => new Promise((done) => echo.close(done)))

const how = (kind: ProofFault['kind'], part: Partial<ProofFault> = {}) => ({ kind, way: 'both' as const, ms: 100, octetsPerS: 1000, ...part })

/** A connection through it that says whatever is asked, and hears what came back. */
async function line() {
  const socket = connect(proxy.port, '127.0.0.1')
  open.push(socket)
  let heard = ''
  let over: string | null = null
  socket.on('data', (chunk: Buffer) => (heard += chunk))
  socket.on('error', (e: NodeJS.ErrnoException) => (over = e.code ?? 'error'))
  socket.on('close', () => (over ??= 'closed'))
  await new Promise<void>((done) => {
    socket.once('connect', done)
    socket.once('close', done)
  })
  return { socket, say: (text: string) => socket.write(text), heard: () => heard, over: () => over }
}
async function until(look: () => boolean, ms = 10_000): Promise<number> {
  const begun = performance.now()
  while (!look()) {
    if (performance.now() - begun > ms) throw new Error('waited in vain')
    await new Promise((done) => setTimeout(done, 5))
  }
  return performance.now() - begun
}

it('passes everything on as it is, in order, while nothing is wrong', async () => {
  const l = await line()
  const text = Array.from({ length: 20_000 }, (_, i) => `${i},`).join('')
  l.say(text)
  await until(() => l.heard().length === text.length)
  expect(l.heard()).toBe(text)
  expect(proxy.connections).toBe(1)
})

it.each(['cut', 'kill'] as const)('%s resets what stands', async (kind) => {
  const l = await line()
  l.say('a')
  await until(() => l.heard() === 'a')
  proxy.set(how(kind))
  await until(() => l.over() === 'ECONNRESET')
  const next = await line()
  next.say('b')
  await until(() => (kind === 'cut' ? next.over() !== null : next.heard() === 'b'))
  proxy.set(null)
  const after = await line()
  after.say('c')
  await until(() => after.heard() === 'c')
})

it('refuse leaves what stands, and lets none in', async () => {
  const l = await line()
  l.say('a')
  await until(() => l.heard() === 'a')
  proxy.set(how('refuse'))
  const next = await line()
  await until(() => next.over() !== null)
  l.say('b')
  await until(() => l.heard() === 'ab')
  expect(l.over()).toBeNull()
})

it.each(['both', 'there', 'back'] as const)('silent, %s: nothing comes through and nobody is told, and then it all does, once', async (way) => {
  const l = await line()
  l.say('a')
  await until(() => l.heard() === 'a')
  proxy.set(how('silent', { way }))
  l.say('b')
  l.say('c')
  await new Promise((done) => setTimeout(done, 200))
  expect([l.heard(), l.over()]).toEqual(['a', null])
  proxy.set(null)
  await until(() => l.heard() === 'abc')
})

it('silent, it reads no more than it can hold', async () => {
  const l = await line()
  proxy.set(how('silent', { way: 'there' }))
  const part = 'x'.repeat(1 << 16)
  let taken = 0
  // Until nobody takes any more for a while.
  for (let still = 0; still < 20 && taken < 1000; ) {
    if (l.socket.writableLength < 1 << 20) {
      l.say(part)
      taken++
      still = 0
    } else still++
    await new Promise((done) => setTimeout(done, 5))
  }
  expect(taken).toBeLessThan(1000)
  proxy.set(null)
  await until(() => l.heard().length === taken * part.length, 20_000)
})

it('slow brings everything later, in order, each way', async () => {
  const l = await line()
  proxy.set(how('slow', { ms: 150 }))
  l.say('a')
  l.say('b')
  expect(await until(() => l.heard() === 'ab')).toBeGreaterThan(250)
  // What was said before it ended does not come after what is said then.
  l.say('c')
  await new Promise((done) => setTimeout(done, 20))
  proxy.set(null)
  l.say('d')
  await until(() => l.heard() === 'abcd')
})

it('thin lets so few octets through', async () => {
  const l = await line()
  proxy.set(how('thin', { octetsPerS: 2000 }))
  for (let i = 0; i < 4; i++) {
    l.say('x'.repeat(100))
    await new Promise((done) => setTimeout(done, 10))
  }
  // 400 octets there take 0.2 s.
  expect(await until(() => l.heard().length === 400)).toBeGreaterThan(120)
})

it('a far end that is not there ends the connection', async () => {
  const nobody = await FaultProxy.open('127.0.0.1', 1)
  const socket = connect(nobody.port, '127.0.0.1')
  socket.on('error', () => undefined)
  await new Promise((done) => socket.once('close', done))
  await nobody.close()
  expect(nobody.connections).toBe(0)
})
