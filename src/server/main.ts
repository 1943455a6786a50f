import { createServer, type RequestListener } from 'node:http'
import { createSecureServer } from 'node:http2'
import type { Socket } from 'node:net'
import { join } from 'node:path'
import { pathToFileURL } from 'node:url'
import sirv from 'sirv'
import { ADDRESS_HEADER, callerAddress, cameOverTls, proxyHops } from './address'
import { answersTo, hostNames, serverCertificate } from './tls'

const dist = process.env.EMBRIK_WEB_DIST ?? 'dist/web'
const port = Number(process.env.EMBRIK_PORT_BASE ?? 4600)
const host = process.env.EMBRIK_HOST ?? '127.0.0.1'

const { handler } = (await import(pathToFileURL(join(dist, 'server', 'entry.mjs')).href)) as {
  handler: (req: unknown, res: unknown, next: (e?: unknown) => void) => void
}
// Files have their content's hash in their names; compressed copies lie beside them.
const files = sirv(join(dist, 'client'), {
  gzip: true,
  immutable: true,
  maxAge: 31_536_000,
  etag: true,
  setHeaders: (res) => {
    res.setHeader('x-content-type-options', 'nosniff')
    res.setHeader('cross-origin-resource-policy', 'same-origin')
  },
})
// Who asks is told by the connection. Only what proxies in front of it added to these headers is worth anything.
const forwarded = ['x-forwarded-for', 'x-forwarded-host', 'x-forwarded-proto', 'x-forwarded-port', 'forwarded', ADDRESS_HEADER]
const hops = proxyHops(process.env)
const names = hostNames(process.env)
const single = (value: string | string[] | undefined) => (Array.isArray(value) ? value.join(',') : value)

const serve: RequestListener = (req, res) => {
  // HTTP/2 names the host in a field of its own (RFC 9113 8.3.1).
  const asked = req.headers.host ?? single(req.headers[':authority'])
  if (!answersTo(names, asked)) {
    res
      .writeHead(421, { 'content-type': 'text/plain; charset=utf-8' })
      .end('This server does not answer to that name. EMBRIK_HOSTS says to which it does.\n')
    return
  }
  const address = callerAddress(req.socket.remoteAddress ?? null, single(req.headers['x-forwarded-for']), hops)
  const overTls = cameOverTls(single(req.headers['x-forwarded-proto']), hops)
  for (const name of forwarded) delete req.headers[name]
  if (asked !== undefined) req.headers.host = asked
  if (address !== null) req.headers[ADDRESS_HEADER] = address
  if (overTls) req.headers['x-forwarded-proto'] = 'https'
  files(req, res, () => {
    handler(req, res, (e) => {
      if (e) console.error(`web: ${e instanceof Error ? e.message : String(e)}`)
      if (!res.headersSent) res.writeHead(e ? 500 : 404).end()
    })
  })
}

const certificate = await serverCertificate(process.env)
const server = certificate
  ? createSecureServer({ allowHTTP1: true, cert: certificate.cert, key: certificate.key, minVersion: 'TLSv1.2' }, serve as never)
  : createServer({ maxHeaderSize: 16_384, headersTimeout: 15_000, requestTimeout: 120_000 }, serve)
// Longer than those who ask keep an idle connection: a question that is on its way when it is ended has no answer.
Object.assign(server, { keepAliveTimeout: 75_000 })
const sockets = new Set<Socket>()
server.on(certificate ? 'secureConnection' : 'connection', (socket: Socket) => {
  sockets.add(socket)
  socket.on('close', () => sockets.delete(socket))
})
server.on('error', (e: NodeJS.ErrnoException) => {
  console.error(e.code === 'EADDRINUSE' ? `Port ${port} (web) is taken: free it or set EMBRIK_PORT_BASE to move all ports` : e.message)
  process.exit(e.code === 'EADDRINUSE' ? 98 : 1)
})
server.listen(port, host, () => {
  console.log(`web on ${certificate ? 'https' : 'http'}://${host}:${port}`)
  if (certificate?.own) console.log(`web: its certificate was made here, browsers ask about it once: ${certificate.own}`)
})

const stop = () => {
  server.close(() => process.exit(0))
  // Open streams never end by themselves.
  for (const socket of sockets) socket.destroy()
  setTimeout(() => process.exit(0), 2000).unref()
}
process.on('SIGTERM', stop)
process.on('SIGINT', stop)
