import { createHash } from 'node:crypto'
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http'
import { z } from 'zod'
import type { Broker } from '../broker/broker'
import { BrokerFaults } from '../broker/faults'
import type { CompressorServer } from '../compressor/server'
import type { Gate } from '../gate'
import type { WorksHub } from '../hub/works-hub'
import type { KilnServer } from '../kiln/server'
import type { FieldServer } from '../modbus/server'
import { ObjectFaults } from '../objects/faults'
import type { ObjectStoreStandin } from '../objects/objects'
import { ReceiverFaults } from '../receiver/faults'
import type { Receiver } from '../receiver/receiver'
import { RelayFaults } from '../relay/faults'
import type { Relay } from '../relay/relay'
import { SchemaFaults, type SchemaRegistry } from '../schemas/schemas'
import { StreamFaults } from '../stream/faults'
import type { Stream } from '../stream/stream'
import { page } from './page'

const Cut = z.object({ seconds: z.number().min(0).max(3600) })
const KilnFaults = z.strictObject({ slowMs: z.number().min(0).max(60_000).default(0), refuseLogins: z.boolean().default(false) })
const FieldFaults = z.strictObject({
  slowMs: z.number().min(0).max(60_000).default(0),
  silentUnit: z.number().int().min(0).max(255).default(0),
  exception: z.number().int().min(0).max(255).default(0),
  shortFrames: z.boolean().default(false),
})
const CompressorFaults = z.strictObject({ slowMs: z.number().min(0).max(60_000).default(0), failing: z.boolean().default(false) })
const HubFaults = z.strictObject({ clockS: z.number().int().min(-86_400).max(86_400).default(0) })
const LOG_PAGE = 10_000
const sha256 = (octets: Buffer) => createHash('sha256').update(octets).digest('hex').slice(0, 16)
const Trust = z.object({ trusted: z.boolean() })

export interface Works {
  kiln: KilnServer
  kilnGate: Gate
  broker: Broker
  field: FieldServer
  fieldGate: Gate
  compressor: CompressorServer
  stream: Stream
  receiver: Receiver
  objects: ObjectStoreStandin
  relay: Relay
  schemas: SchemaRegistry
  tarn: Pick<WorksHub, 'hub'>
  fell: Pick<WorksHub, 'hub'>
}

/** The stand-in panel: what somebody at the works would do to kiln and broker. */
export class Panel {
  private constructor(private readonly server: Server) {}

  static async start(port: number, works: Works): Promise<Panel> {
    const server = createServer((req, res) => {
      handle(works, port, req, res).catch((e: unknown) => {
        const problem = e instanceof z.ZodError ? e.issues.map((i) => `${i.path.join('.')}: ${i.message}`).join('; ') : String(e)
        answer(res, e instanceof z.ZodError || e instanceof SyntaxError ? 422 : 500, { message: problem })
      })
    })
    await new Promise<void>((done, failed) => {
      server.once('error', failed)
      server.listen(port, '127.0.0.1', done)
    })
    return new Panel(server)
  }

  async stop(): Promise<void> {
    this.server.closeAllConnections()
    await new Promise<void>((done) => this.server.close(() => done()))
  }
}

function answer(res: ServerResponse, status: number, body: unknown): void {
  res.writeHead(status, { 'content-type': 'application/json; charset=utf-8' }).end(JSON.stringify(body))
}

async function body(req: IncomingMessage): Promise<unknown> {
  if (!req.headers['content-type']?.startsWith('application/json')) throw new SyntaxError('send application/json')
  let text = ''
  for await (const chunk of req) {
    text += chunk
    if (text.length > 10_000) throw new SyntaxError('too long')
  }
  return JSON.parse(text)
}

function hubState({ hub }: Pick<WorksHub, 'hub'>) {
  return { cut: hub.broker.isShut(), faults: { clockS: hub.skewMs / 1000 }, taken: hub.units.list().reduce((sum, u) => sum + u.taken, 0) }
}

async function handle(works: Works, port: number, req: IncomingMessage, res: ServerResponse): Promise<void> {
  // Only this machine's own names: a page elsewhere must not steer the works through a rebound name.
  if (req.headers.host !== `127.0.0.1:${port}` && req.headers.host !== `localhost:${port}`) return answer(res, 421, { message: 'wrong host' })
  const path = (req.url ?? '/').split('?')[0]!
  const route = `${req.method} ${path}`
  if (route === 'GET /') {
    res.writeHead(200, { 'content-type': 'text/html; charset=utf-8', 'content-security-policy': "default-src 'self' 'unsafe-inline'" }).end(page)
    return
  }
  if (route === 'GET /api/state')
    return answer(res, 200, {
      kiln: {
        cut: works.kilnGate.isShut(),
        faults: { slowMs: works.kilnGate.slowMs, refuseLogins: works.kiln.refuseLogins },
        certificates: await works.kiln.seen(),
      },
      field: { cut: works.fieldGate.isShut(), faults: works.field.faults, requests: works.field.requests },
      compressor: { faults: works.compressor.faults },
      receiver: { cut: works.receiver.isShut(), faults: works.receiver.faults.settings, kept: works.receiver.arrivals.length },
      objects: {
        cut: works.objects.isShut(),
        faults: works.objects.faults.settings,
        kept: works.objects.puts.at(-1)?.n ?? 0,
        partsOpen: works.objects.partsOpen,
      },
      relay: { cut: works.relay.isShut(), faults: works.relay.faults.settings, kept: works.relay.kept },
      schemas: { faults: works.schemas.faults, kept: works.schemas.kept.size },
      tarn: hubState(works.tarn),
      fell: hubState(works.fell),
      stream: { cut: works.stream.isShut(), faults: works.stream.faults.settings, kept: works.stream.truth.kept },
      broker: {
        cut: works.broker.isShut(),
        faults: works.broker.faults.settings,
        published: works.broker.published,
        delivered: works.broker.delivered,
        clients: [...works.broker.sessions.values()].map((s) => ({
          clientId: s.clientId,
          connected: s.line !== null,
          subscriptions: [...s.subscriptions.keys()],
          waiting: s.queue.length,
          overflowed: s.overflowed,
        })),
      },
    })
  if (route === 'POST /api/broker/cut') {
    works.broker.cut(Cut.parse(await body(req)).seconds)
    return answer(res, 200, { cut: works.broker.isShut() })
  }
  if (route === 'POST /api/kiln/cut') {
    works.kilnGate.cut(Cut.parse(await body(req)).seconds)
    return answer(res, 200, { cut: works.kilnGate.isShut() })
  }
  if (route === 'POST /api/field/cut') {
    works.fieldGate.cut(Cut.parse(await body(req)).seconds)
    return answer(res, 200, { cut: works.fieldGate.isShut() })
  }
  if (route === 'PUT /api/field/faults') {
    works.field.faults = FieldFaults.parse(await body(req))
    return answer(res, 200, works.field.faults)
  }
  if (route === 'PUT /api/compressor/faults') {
    works.compressor.faults = CompressorFaults.parse(await body(req))
    return answer(res, 200, works.compressor.faults)
  }
  if (route === 'POST /api/receiver/cut') {
    works.receiver.cut(Cut.parse(await body(req)).seconds)
    return answer(res, 200, { cut: works.receiver.isShut() })
  }
  if (route === 'POST /api/receiver/tokens') {
    works.receiver.logins.endTokens()
    return answer(res, 200, {})
  }
  if (route === 'PUT /api/receiver/faults') {
    works.receiver.setFaults(ReceiverFaults.parse(await body(req)))
    return answer(res, 200, works.receiver.faults.settings)
  }
  if (route === 'GET /api/receiver/log') {
    const after = Number(new URL(req.url ?? '/', 'http://panel').searchParams.get('after') ?? 0)
    return answer(res, 200, { arrivals: works.receiver.arrivals.filter((a) => a.n > after).slice(0, LOG_PAGE) })
  }
  if (route === 'POST /api/objects/cut') {
    works.objects.cut(Cut.parse(await body(req)).seconds)
    return answer(res, 200, { cut: works.objects.isShut() })
  }
  if (route === 'PUT /api/objects/faults') {
    works.objects.setFaults(ObjectFaults.parse(await body(req)))
    return answer(res, 200, works.objects.faults.settings)
  }
  if (route === 'GET /api/objects/log') {
    const after = Number(new URL(req.url ?? '/', 'http://panel').searchParams.get('after') ?? 0)
    const puts = works.objects.puts.filter((p) => p.n > after).slice(0, LOG_PAGE)
    return answer(res, 200, { puts: puts.map(({ octets, ...put }) => ({ ...put, octets: octets.length, hash: sha256(octets) })) })
  }
  if (route === 'PUT /api/schemas/faults') {
    works.schemas.faults = SchemaFaults.parse(await body(req))
    return answer(res, 200, works.schemas.faults)
  }
  if (route === 'POST /api/relay/cut') {
    works.relay.cut(Cut.parse(await body(req)).seconds)
    return answer(res, 200, { cut: works.relay.isShut() })
  }
  if (route === 'PUT /api/relay/faults') {
    works.relay.setFaults(RelayFaults.parse(await body(req)))
    return answer(res, 200, works.relay.faults.settings)
  }
  if (route === 'GET /api/relay/log') {
    const after = Number(new URL(req.url ?? '/', 'http://panel').searchParams.get('after') ?? 0)
    const passed = works.relay.passed.filter((p) => p.n > after).slice(0, LOG_PAGE)
    return answer(res, 200, { passed: passed.map(({ octets, ...one }) => ({ ...one, octets: octets.length, hash: sha256(octets) })) })
  }
  if (route === 'POST /api/stream/cut') {
    works.stream.cut(Cut.parse(await body(req)).seconds)
    return answer(res, 200, { cut: works.stream.isShut() })
  }
  if (route === 'POST /api/stream/leaders') {
    works.stream.moveLeaders()
    return answer(res, 200, {})
  }
  if (route === 'PUT /api/stream/faults') {
    works.stream.setFaults(StreamFaults.parse(await body(req)))
    return answer(res, 200, works.stream.faults.settings)
  }
  if (route === 'GET /api/stream/log') {
    const after = Number(new URL(req.url ?? '/', 'http://panel').searchParams.get('after') ?? 0)
    return answer(res, 200, { arrivals: works.stream.truth.arrivals.filter((a) => a.n > after).slice(0, LOG_PAGE) })
  }
  if (route === 'PUT /api/broker/faults') {
    works.broker.setFaults(BrokerFaults.parse(await body(req)))
    return answer(res, 200, works.broker.faults.settings)
  }
  if (route === 'PUT /api/kiln/faults') {
    const faults = KilnFaults.parse(await body(req))
    works.kilnGate.slowMs = faults.slowMs
    works.kiln.refuseLogins = faults.refuseLogins
    return answer(res, 200, faults)
  }
  if (route === 'GET /api/broker/log') {
    const after = Number(new URL(req.url ?? '/', 'http://panel').searchParams.get('after') ?? 0)
    const { arrivals, copies } = works.broker.truth
    const page = arrivals.slice(arrivals.findIndex((a) => a.n > after)).slice(0, arrivals.some((a) => a.n > after) ? LOG_PAGE : 0)
    const numbers = new Set(page.map((a) => a.n))
    return answer(res, 200, { arrivals: page, copies: copies.filter((c) => numbers.has(c.arrival)) })
  }
  const ofHub = /^(?:POST|PUT) \/api\/(tarn|fell)\/(cut|faults)$/.exec(route)
  if (ofHub) {
    const { hub } = works[ofHub[1] as 'tarn' | 'fell']
    if (ofHub[2] === 'cut') hub.broker.cut(Cut.parse(await body(req)).seconds)
    else hub.skewMs = HubFaults.parse(await body(req)).clockS * 1000
    return answer(res, 200, hubState({ hub }))
  }
  const certificate = /^POST \/api\/kiln\/certificates\/([0-9a-fA-F]{40})$/.exec(route)
  if (certificate) {
    const { trusted } = Trust.parse(await body(req))
    const found = await works.kiln.trust(certificate[1]!, trusted)
    return answer(res, found ? 200 : 404, found ? { trusted } : { message: 'no such certificate has called' })
  }
  answer(res, 404, { message: `nothing at ${route}` })
}
