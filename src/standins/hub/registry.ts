import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http'
import yazl from 'yazl'
import { z } from 'zod'
import type { HubAuthority, Identity } from './authority'
import type { Hub } from './hub'
import { registryPage } from './page'
import type { Unit } from './units'

export interface RegistryOptions {
  port: number
  hub: Hub
  authority: HubAuthority
  /** Where events are read back, as the hand-out says it. */
  events: { servers: string; topic: string; user: string; password: string }
  /** What is to last has changed. */
  changed?(): Promise<void>
}

const NewUnit = z.strictObject({ name: z.string() })
const NewLimits = z.strictObject({
  perDay: z.number().int().min(0).nullable().optional(),
  perSecond: z.number().int().min(1).nullable().optional(),
  payloadOctets: z.number().int().min(1).max(1_000_000).optional(),
})
const Alias = z.strictObject({ alias: z.string().regex(/^[A-Za-z0-9._-]{1,64}$/, 'Letters, digits, dots and dashes') })
const Down = z.strictObject({ path: z.string().regex(/^[A-Za-z0-9/_-]{1,100}$/), value: z.unknown() })
const Rule = z.strictObject({
  path: z.string().max(200).default(''),
  atLeast: z
    .strictObject({ field: z.string().min(1), value: z.number() })
    .nullable()
    .default(null),
  fields: z.array(z.string().min(1)).max(20).default([]),
})
const Clock = z.strictObject({ skewMs: z.number().int().min(-86_400_000).max(86_400_000) })
const BODY_MAX = 65_536

/** What is wrong with a question, and its status. */
class No extends Error {
  constructor(
    readonly status: number,
    message: string,
  ) {
    super(message)
  }
}

async function bodyOf(req: IncomingMessage): Promise<unknown> {
  const parts: Buffer[] = []
  let octets = 0
  for await (const part of req) {
    octets += (part as Buffer).length
    if (octets > BODY_MAX) throw new No(413, 'too large')
    parts.push(part as Buffer)
  }
  return octets === 0 ? {} : JSON.parse(Buffer.concat(parts).toString('utf8'))
}

/** The registry of a hub: units are made here, handed out, disabled and bounded; what was refused and what was routed can be seen. */
export class Registry {
  private constructor(private readonly server: Server) {}

  static async start(o: RegistryOptions): Promise<Registry> {
    const desk = new Desk(o)
    const server = createServer((req, res) => {
      desk.handle(req, res).catch((e: unknown) => {
        const status = e instanceof No ? e.status : e instanceof z.ZodError || e instanceof SyntaxError ? 422 : 500
        const message =
          e instanceof z.ZodError ? e.issues.map((i) => `${i.path.join('.')}: ${i.message}`).join('; ') : e instanceof Error ? e.message : ''
        answer(res, status, { message })
      })
    })
    await new Promise<void>((done, failed) => {
      server.once('error', failed)
      server.listen(o.port, '127.0.0.1', () => done())
    })
    return new Registry(server)
  }

  async stop(): Promise<void> {
    this.server.closeAllConnections()
    await new Promise<void>((done) => this.server.close(() => done()))
  }
}

function answer(res: ServerResponse, status: number, value: unknown): void {
  res.writeHead(status, { 'content-type': 'application/json', 'cache-control': 'no-store' })
  res.end(JSON.stringify(value))
}

/** Answers questions. */
class Desk {
  constructor(private readonly o: RegistryOptions) {}

  async handle(req: IncomingMessage, res: ServerResponse): Promise<void> {
    const { hub } = this.o
    const url = new URL(req.url ?? '/', 'http://registry')
    const [, api, noun, id, act] = url.pathname.split('/').map(decodeURIComponent)
    if (url.pathname === '/' && req.method === 'GET') {
      res.writeHead(200, { 'content-type': 'text/html; charset=utf-8' })
      return void res.end(registryPage(hub.o.by))
    }
    if (api !== 'api') throw new No(404, 'nothing here')
    const asked = `${req.method} ${noun ?? ''}`
    if (asked === 'GET log') return answer(res, 200, hub.log.list(url.searchParams.get('unit')))
    if (asked === 'GET rows') return answer(res, 200, { rule: hub.routing.rule, rows: hub.routing.rows.slice(0, 200), unread: hub.routing.unread })
    if (asked === 'PUT rule') {
      hub.routing.rule = Rule.parse(await bodyOf(req))
      hub.routing.rows = []
      return answer(res, 200, hub.routing.rule)
    }
    if (asked === 'GET clock') return answer(res, 200, { now: new Date(hub.now()).toISOString(), skewMs: hub.skewMs })
    if (asked === 'PUT clock') {
      hub.skewMs = Clock.parse(await bodyOf(req)).skewMs
      return answer(res, 200, { skewMs: hub.skewMs })
    }
    if (noun !== 'units') throw new No(404, 'nothing here')
    if (!id && req.method === 'GET') return answer(res, 200, hub.units.list().map(shown))
    if (!id && req.method === 'POST') await this.add(NewUnit.parse(await bodyOf(req)).name, res)
    else {
      const unit = hub.units.get(id ?? '')
      if (!unit) throw new No(404, 'there is no such unit')
      await this.unit(unit, `${req.method} ${act ?? ''}`, req, res)
    }
    if (req.method !== 'GET' || act === 'kit') await this.o.changed?.()
  }

  private async add(name: string, res: ServerResponse): Promise<void> {
    const { hub } = this.o
    const unit = hub.units.add(name)
    if (!unit) throw new No(409, 'a name of letters, digits, dots and dashes, that no other unit has')
    return answer(res, 201, { ...shown(unit), handOut: hub.o.by === 'token' ? await this.text(unit) : `/api/units/${encodeURIComponent(name)}/kit` })
  }

  private async unit(unit: Unit, asked: string, req: IncomingMessage, res: ServerResponse): Promise<void> {
    const { hub } = this.o
    switch (asked) {
      case 'GET ':
        return answer(res, 200, shown(unit))
      case 'GET kit':
        return this.kit(unit, res)
      case 'GET text':
        res.writeHead(200, { 'content-type': 'text/plain; charset=utf-8' })
        return void res.end(await this.text(unit))
      case 'POST disable':
      case 'POST enable':
        hub.enable(unit, asked === 'POST enable')
        return answer(res, 200, shown(unit))
      case 'POST rotate':
        hub.units.rotate(unit)
        return answer(res, 200, shown(unit))
      case 'PUT limits':
        Object.assign(unit.limits, NewLimits.parse(await bodyOf(req)))
        return answer(res, 200, shown(unit))
      case 'POST aliases':
        unit.aliases.add(Alias.parse(await bodyOf(req)).alias)
        return answer(res, 200, shown(unit))
      case 'POST down': {
        const { path, value } = Down.parse(await bodyOf(req))
        return answer(res, 200, { connected: hub.tell(unit, path, value) })
      }
      default:
        throw new No(404, 'nothing here')
    }
  }

  /** What the people of the hub send by mail: where, who, by which key, whom to trust, and where events can be read. */
  private async text(unit: Unit): Promise<string> {
    const { hub, authority, events } = this.o
    const { host, port } = hub.o
    return [
      [
        `Hub=${host};Port=${port};Unit=${unit.name};UnitKey=${unit.keys[0]}`,
        `Events=${events.servers};EventsTopic=${events.topic};EventsUser=${events.user};EventsPassword=${events.password}`,
      ].join(';'),
      '',
      authority.root.trim(),
      '',
    ].join('\n')
  }

  /** A zip with a certificate of its own, its key, whom to trust, and where. Each kit has a certificate of its own; those before stay good. */
  private async kit(unit: Unit, res: ServerResponse): Promise<void> {
    const { hub, authority, events } = this.o
    if (hub.o.by !== 'certificate') throw new No(409, 'units here come by a key')
    const own: Identity = await authority.sign(unit.name, 'client')
    unit.certificates.push(own.sha256)
    const zip = new yazl.ZipFile()
    const add = (name: string, text: string) => zip.addBuffer(Buffer.from(text), name)
    add(`${unit.name}.crt`, own.certificate)
    add(`${unit.name}.key`, own.key)
    add('root.crt', authority.root)
    add(
      'unit.json',
      JSON.stringify(
        {
          host: hub.o.host,
          port: hub.o.port,
          unit: unit.name,
          events: events.servers,
          eventsTopic: events.topic,
          eventsUser: events.user,
          eventsPassword: events.password,
        },
        null,
        2,
      ),
    )
    zip.end()
    res.writeHead(200, { 'content-type': 'application/zip', 'content-disposition': `attachment; filename="${unit.name}.zip"` })
    zip.outputStream.pipe(res)
  }
}

/** What everybody may see of a unit: never its keys. */
function shown({ keys: _, aliases, certificates, ...unit }: Unit) {
  return { ...unit, aliases: [...aliases], certificates: certificates.length }
}
