import { createServer } from 'node:http'
import { join } from 'node:path'
import { pathToFileURL } from 'node:url'
import sirv from 'sirv'
import { ADDRESS_HEADER, callerAddress, cameOverTls, proxyHops } from './address'

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
const single = (value: string | string[] | undefined) => (Array.isArray(value) ? value.join(',') : value)

const server = createServer({ maxHeaderSize: 16_384, headersTimeout: 15_000, requestTimeout: 120_000 }, (req, res) => {
  const address = callerAddress(req.socket.remoteAddress ?? null, single(req.headers['x-forwarded-for']), hops)
  const overTls = cameOverTls(single(req.headers['x-forwarded-proto']), hops)
  for (const name of forwarded) delete req.headers[name]
  if (address !== null) req.headers[ADDRESS_HEADER] = address
  if (overTls) req.headers['x-forwarded-proto'] = 'https'
  files(req, res, () => {
    handler(req, res, (e) => {
      if (e) console.error(`web: ${e instanceof Error ? e.message : String(e)}`)
      if (!res.headersSent) res.writeHead(e ? 500 : 404).end()
    })
  })
})
server.on('error', (e: NodeJS.ErrnoException) => {
  console.error(e.code === 'EADDRINUSE' ? `Port ${port} (web) is taken: free it or set EMBRIK_PORT_BASE to move all ports` : e.message)
  process.exit(e.code === 'EADDRINUSE' ? 98 : 1)
})
server.listen(port, host, () => console.log(`web on http://${host}:${port}`))

const stop = () => {
  server.close(() => process.exit(0))
  // Open streams never end by themselves.
  server.closeAllConnections()
  setTimeout(() => process.exit(0), 2000).unref()
}
process.on('SIGTERM', stop)
process.on('SIGINT', stop)
