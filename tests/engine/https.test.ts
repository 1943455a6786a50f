// The web server's own front: HTTPS over HTTP/2 and HTTP/1.1, host names, addresses behind proxies. Behind it stands a page that tells what it was asked.
import { type ChildProcess, spawn } from 'node:child_process'
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { connect as connect2 } from 'node:http2'
import { request } from 'node:https'
import { join } from 'node:path'
import { afterEach, expect, it } from 'vitest'
import { bundled } from '../bundle'
import { folder, freePort, until } from './support'

let running: ChildProcess | null = null
afterEach(async () => {
  const child = running
  running = null
  if (!child || child.exitCode !== null) return
  const ended = new Promise((done) => child.once('exit', done))
  child.kill('SIGTERM')
  await ended
})

async function start(env: Record<string, string>) {
  const dist = folder('web')
  mkdirSync(join(dist, 'server'), { recursive: true })
  mkdirSync(join(dist, 'client'), { recursive: true })
  writeFileSync(join(dist, 'client', 'mark.svg'), '<svg/>')
  const echo = `export const handler = (req, res) => { res.setHeader('content-type', 'application/json'); res.end(JSON.stringify({ method: req.method, url: req.url, headers: Object.fromEntries(Object.entries(req.headers)), version: req.httpVersion })) }`
  writeFileSync(join(dist, 'server', 'entry.mjs'), echo)
  const port = await freePort()
  const home = folder('web-home')
  const program = await bundled('src/server/main.ts', 'web-front.mjs')
  let said = ''
  const child = spawn(process.execPath, [program], {
    env: { PATH: process.env.PATH ?? '', EMBRIK_WEB_DIST: dist, EMBRIK_PORT_BASE: String(port), EMBRIK_HOME: home, ...env },
  })
  running = child
  child.stdout.on('data', (d) => (said += String(d)))
  child.stderr.on('data', (d) => (said += String(d)))
  await until(() => said.includes('web on ') || child.exitCode !== null, 'the server to listen')
  return { port, home, said: () => said }
}

interface Told {
  status: number
  body: { headers: Record<string, string>; version: string; url: string }
}
function over1(port: number, ca: string, headers: Record<string, string> = {}, path = '/x'): Promise<Told> {
  return new Promise((done, failed) => {
    const req = request({ host: '127.0.0.1', port, path, ca, headers, servername: 'localhost' }, (res) => {
      let text = ''
      res.on('data', (d) => (text += String(d)))
      res.on('end', () => done({ status: res.statusCode!, body: text.startsWith('{') ? JSON.parse(text) : ({} as Told['body']) }))
    })
    req.on('error', failed)
    req.end()
  })
}
function over2(port: number, ca: string, headers: Record<string, string> = {}): Promise<Told> {
  return new Promise((done, failed) => {
    const session = connect2(`https://localhost:${port}`, { ca })
    session.on('error', failed)
    const stream = session.request({ ':path': '/y?z=1', ...headers })
    let status = 0
    let text = ''
    stream.on('response', (h) => (status = Number(h[':status'])))
    stream.on('data', (d) => (text += String(d)))
    stream.on('end', () => {
      session.close()
      done({ status, body: text.startsWith('{') ? JSON.parse(text) : ({} as Told['body']) })
    })
    stream.on('error', failed)
    stream.end()
  })
}

it('serves HTTPS with a certificate of its own, over HTTP/2 and HTTP/1.1, and files too', async () => {
  const { port, home } = await start({ EMBRIK_TLS: 'own' })
  const ca = readFileSync(join(home, 'tls', 'certificate.pem'), 'utf8')
  expect(await over1(port, ca)).toMatchObject({ status: 200, body: { version: '1.1' } })
  const two = await over2(port, ca)
  expect(two).toMatchObject({ status: 200, body: { version: '2.0', url: '/y?z=1', headers: { host: `localhost:${port}` } } })
  expect((await over1(port, ca, {}, '/mark.svg')).status).toBe(200)
  // Nobody is let in who speaks no TLS.
  await expect(fetch(`http://127.0.0.1:${port}/x`)).rejects.toThrow()
  // And no other certificate passes for it.
  await expect(over1(port, ca.replace(/[A-Za-z0-9+/]{10}=*\n-----END/, 'AAAAAAAAAA\n-----END'))).rejects.toThrow()
})

it('answers to its names only, over either', async () => {
  const { port, home } = await start({ EMBRIK_TLS: 'own', EMBRIK_HOSTS: 'embrik.example' })
  const ca = readFileSync(join(home, 'tls', 'certificate.pem'), 'utf8')
  for (const host of ['embrik.example', `127.0.0.1:${port}`, 'localhost']) expect((await over1(port, ca, { host })).status, host).toBe(200)
  for (const host of ['evil.test', `evil.test:${port}`, '127.0.0.1.evil.test']) expect((await over1(port, ca, { host })).status, host).toBe(421)
  expect((await over2(port, ca, { ':authority': 'evil.test' })).status).toBe(421)
  expect((await over2(port, ca, { ':authority': 'embrik.example' })).status).toBe(200)
})

it('tells pages where a request comes from: by the connection, or by what so many proxies saw', async () => {
  const asked = async (port: number, headers: Record<string, string>) =>
    ((await (await fetch(`http://127.0.0.1:${port}/x`, { headers })).json()) as Told['body']).headers
  const forged = { 'x-forwarded-for': '1.1.1.1, 203.0.113.7', 'x-forwarded-proto': 'https', 'x-embrik-address': '9.9.9.9', forwarded: 'for=1.1.1.1' }
  const plain = await start({})
  const straight = await asked(plain.port, forged)
  expect(straight['x-embrik-address']).toBe('127.0.0.1')
  for (const name of ['x-forwarded-for', 'x-forwarded-proto', 'forwarded']) expect(straight).not.toHaveProperty(name)
  running?.kill('SIGTERM')
  const proxied = await start({ EMBRIK_PROXY_HOPS: '1' })
  expect(await asked(proxied.port, forged)).toMatchObject({ 'x-embrik-address': '203.0.113.7', 'x-forwarded-proto': 'https' })
})

it('says in words what is wrong with its certificate, and ends', async () => {
  const { said } = await start({ EMBRIK_TLS_CERT: '/nowhere.pem' })
  expect(said()).toContain('EMBRIK_TLS_CERT and EMBRIK_TLS_KEY belong together')
})
