import { createServer, type IncomingMessage, type Server } from 'node:http'
import { createServer as createSecureServer } from 'node:https'
import type { Socket } from 'node:net'
import { z } from 'zod'

/** What goes wrong at the registry. */
export const SchemaFaults = z.strictObject({
  /** Every answer comes so much later, ms. */
  slowMs: z.number().min(0).max(120_000).default(0),
  refuseLogins: z.boolean().default(false),
  /** A log-in may look, and keep nothing. */
  readOnly: z.boolean().default(false),
  /** Under subjects with this text only the first schema is taken; empty: under none. */
  firstOnly: z.string().max(200).default(''),
  /** Answered to everything; 0: as it should be. */
  status: z.number().int().min(0).max(599).default(0),
})
export type SchemaFaults = z.infer<typeof SchemaFaults>
export const noSchemaFaults: SchemaFaults = SchemaFaults.parse({})

/** One schema, whatever subjects it stands under. */
export interface KeptSchema {
  id: number
  type: 'AVRO' | 'JSON'
  schema: string
}

const Registration = z.object({ schema: z.string(), schemaType: z.enum(['AVRO', 'JSON']).default('AVRO') })
type Answer = readonly [status: number, body: unknown]
const no = (status: number, code: number, message: string): Answer => [status, { error_code: code, message }]

/** A schema registry: subjects with versions, and one number a schema. All in memory. */
export class SchemaRegistry {
  faults = noSchemaFaults
  /** By number. */
  readonly kept = new Map<number, KeptSchema>()
  /** Numbers by subject, the oldest version first. */
  readonly subjects = new Map<string, number[]>()
  private readonly sockets = new Set<Socket>()

  private constructor(
    private readonly server: Server,
    private readonly users: Readonly<Record<string, string>> | null,
  ) {}

  static async start(o: { port: number; users?: Readonly<Record<string, string>>; tls?: { cert: string; key: string } }): Promise<SchemaRegistry> {
    const server = o.tls ? createSecureServer(o.tls) : createServer()
    const registry = new SchemaRegistry(server, o.users ?? null)
    server.on('connection', (socket: Socket) => {
      registry.sockets.add(socket)
      socket.once('close', () => registry.sockets.delete(socket))
    })
    server.on('request', (req: IncomingMessage, res) => {
      void registry.answer(req).then(([status, body]) => {
        const send = () => res.writeHead(status, { 'content-type': 'application/vnd.schemaregistry.v1+json' }).end(JSON.stringify(body))
        if (registry.faults.slowMs > 0) setTimeout(send, registry.faults.slowMs)
        else send()
      })
    })
    await new Promise<void>((done, failed) => {
      server.once('error', failed)
      server.listen(o.port, '127.0.0.1', done)
    })
    return registry
  }

  get port(): number {
    return (this.server.address() as { port: number }).port
  }

  private async answer(req: IncomingMessage): Promise<Answer> {
    let text = ''
    for await (const part of req) text += part
    const { faults } = this
    if (faults.status > 0) return no(faults.status, faults.status * 100, 'it does so just now')
    if (!this.knows(req.headers.authorization ?? '')) return no(401, 40_101, 'Unauthorized')
    const path = decodeURIComponent((req.url ?? '/').split('?')[0]!)
    if (req.method === 'GET' && path === '/subjects') return [200, [...this.subjects.keys()]]
    const id = /^\/schemas\/ids\/(\d+)$/.exec(path)?.[1]
    if (req.method === 'GET' && id !== undefined) {
      const kept = this.kept.get(Number(id))
      return kept ? [200, { schema: kept.schema, ...(kept.type === 'JSON' && { schemaType: 'JSON' }) }] : no(404, 40_403, 'Schema not found')
    }
    const subject = /^\/subjects\/(.+)\/versions$/.exec(path)?.[1]
    if (req.method === 'POST' && subject !== undefined) return this.register(subject, text)
    return no(404, 404, 'HTTP 404 Not Found')
  }

  private knows(authorization: string): boolean {
    if (this.faults.refuseLogins) return false
    const [user = '', secret = ''] = Buffer.from(authorization.replace(/^Basic /, ''), 'base64')
      .toString('utf8')
      .split(':')
    return this.users === null || (Object.hasOwn(this.users, user) && this.users[user] === secret)
  }

  private register(subject: string, text: string): Answer {
    if (this.faults.readOnly) return no(403, 40_301, 'User is denied operation Write')
    let wanted: z.infer<typeof Registration>
    try {
      wanted = Registration.parse(JSON.parse(text))
      JSON.parse(wanted.schema)
    } catch {
      return no(422, 42_201, 'Invalid schema')
    }
    const { schema, schemaType: type } = wanted
    const known = [...this.kept.values()].find((k) => k.schema === schema && k.type === type)
    const versions = this.subjects.get(subject) ?? []
    if (known && versions.includes(known.id)) return [200, { id: known.id }]
    if (this.faults.firstOnly !== '' && subject.includes(this.faults.firstOnly) && versions.length > 0)
      return no(409, 409, 'Schema being registered is incompatible with an earlier schema')
    const id = known?.id ?? this.kept.size + 1
    this.kept.set(id, { id, type, schema })
    this.subjects.set(subject, [...versions, id])
    return [200, { id }]
  }

  async stop(): Promise<void> {
    for (const socket of this.sockets) socket.destroy()
    await new Promise<void>((done) => this.server.close(() => done()))
  }
}
