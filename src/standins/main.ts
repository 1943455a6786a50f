import { startWorks } from './works'

const base = Number(process.env.EMBRIK_PORT_BASE ?? 4600)
const folder = process.env.EMBRIK_DEMO_DIR
if (!folder) {
  console.error('EMBRIK_DEMO_DIR is not set')
  process.exit(2)
}

try {
  const works = await startWorks(base, folder)
  console.log(`stand-ins ready, panel on http://127.0.0.1:${base + 10}`)
  const stop = () => {
    void works.stop().finally(() => process.exit(0))
    setTimeout(() => process.exit(0), 3000).unref()
  }
  process.on('SIGTERM', stop)
  process.on('SIGINT', stop)
} catch (e) {
  const { code, port } = e as { code?: string; port?: number }
  console.error(code === 'EADDRINUSE' ? `Port ${port} is taken: free it or set EMBRIK_PORT_BASE to move all ports` : e)
  process.exit(code === 'EADDRINUSE' ? 98 : 1)
}
