import { createServer, type Server } from 'node:http'
import { noise } from '../noise'

export interface CompressorFaults {
  slowMs: number
  /** 503 instead of the document. */
  failing: boolean
}

/** The compressor's controller: a JSON status page behind a log-in. */
export class CompressorServer {
  faults: CompressorFaults = { slowMs: 0, failing: false }

  private constructor(private readonly server: Server) {}

  static async start(port: number, login: { user: string; password: string }): Promise<CompressorServer> {
    const began = Date.now()
    const wanted = `Basic ${Buffer.from(`${login.user}:${login.password}`).toString('base64')}`
    const server = createServer((req, res) => {
      const { slowMs, failing } = compressor.faults
      setTimeout(() => {
        const answer = (status: number, body: unknown, type = 'application/json') => {
          res.writeHead(status, { 'content-type': type }).end(typeof body === 'string' ? body : JSON.stringify(body))
        }
        if (req.url === '/') return answer(200, '<h1>Compressor 1</h1>', 'text/html')
        if (req.url !== '/status') return answer(404, { error: 'nothing here' })
        if (req.headers.authorization !== wanted) return answer(401, { error: 'log in' })
        if (failing) return answer(503, { error: 'restarting' })
        answer(200, compressorAt((Date.now() - began) / 1000))
      }, slowMs)
    })
    const compressor = new CompressorServer(server)
    await new Promise<void>((done, failed) => {
      server.once('error', failed)
      server.listen(port, '127.0.0.1', done)
    })
    return compressor
  }

  async stop(): Promise<void> {
    this.server.closeAllConnections()
    await new Promise<void>((done) => this.server.close(() => done()))
  }
}

const round = (n: number, digits: number) => Math.round(n * 10 ** digits) / 10 ** digits

/** The document at a simulated second. */
export function compressorAt(t: number) {
  const s = Math.floor(t)
  return {
    unit: { name: 'Compressor 1', serial: 'VC-CMP-07', hours: Math.floor(41_207 + t / 3600) },
    state: t % 90 < 70 ? 'loaded' : 'idle',
    air: { pressure: round(7.2 + 0.3 * Math.sin(t / 20) + noise(61, 1, s) * 0.02, 2), temperature: round(71 + noise(62, 1, s), 1), dewPoint: 3.1 },
    stages: [
      { pressure: round(2.4 + noise(63, 1, s) * 0.03, 2), temperature: round(118 + noise(63, 2, s), 1) },
      { pressure: round(7.4 + noise(64, 1, s) * 0.03, 2), temperature: round(131 + noise(64, 2, s), 1) },
    ],
    alarm: false,
  }
}
