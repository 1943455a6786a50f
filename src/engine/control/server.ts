import { timingSafeEqual } from 'node:crypto'
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http'
import { z } from 'zod'
import { Aside } from '~/contract/aside'
import { BudgetQuery } from '~/contract/budget'
import { CompareQuery } from '~/contract/compare'
import { Credential } from '~/contract/credential'
import { DestinationCheck } from '~/contract/destination'
import { type Failure, FailureError, fail } from '~/contract/failure'
import { invalid } from '~/contract/failure-form'
import { Id } from '~/contract/id'
import { WhichJournal } from '~/contract/journal'
import { ProofPlan } from '~/contract/prove'
import { HeldValues, PublicationDraft } from '~/contract/publication'
import { ReplayQuery } from '~/contract/replay'
import { RowPlace } from '~/contract/row-place'
import { BrowseQuery, SourceCheck, WatchNodes } from '~/contract/source'
import { RegisterQuery } from '~/contract/sources/modbus'
import { ListenQuery } from '~/contract/sources/mqtt'
import { OpcUaEndpoint } from '~/contract/sources/opcua'
import { TagWrite } from '~/contract/tag'
import { TokenRecipe } from '~/contract/token'
import { WhichWaiting } from '~/contract/waiting'
import { WayQuery } from '~/contract/way'
import { encodeStates } from '~/core/tag/states'
import { fromWire, toWire } from '~/core/value/wire'
import { demandTypedAgain, getSource, sourcePassword } from '~/store/source'
import { clocksOf } from '../clocks'
import type { Engine } from '../engine'
import { failureOf } from '../failure'
import { LiveStream, parseHandles } from '../live/stream'
import { rowsLook } from '../publications/preview-rows'
import type { SourceTarget } from '../sources/driver'
import { sourceDriver } from '../sources/registry'
import { watchNodes } from '../sources/watch'
import { inCompartment } from '../watchdog'
import { findWay } from '../way/find'
import { wrongNow } from '../wrong'

const BODY_MAX = 4 << 20

/** What a check is to use in the place of what a credential holds. */
const Instead = z.object({
  id: Id,
  credential: z.object({
    kind: Credential.shape.kind,
    certificate: z.string().nullable(),
    user: z.string().nullable(),
    secret: z.string().nullable(),
    recipe: TokenRecipe.nullable().default(null),
  }),
})

/** What the web server may ask of an engine: HTTP on loopback, every request with the shared secret. */
export class ControlServer {
  private constructor(
    private readonly server: Server,
    private readonly streams: Set<ServerResponse>,
  ) {}

  static async start(engine: Engine, o: { host: string; port: number; secret: string }): Promise<ControlServer> {
    const streams = new Set<ServerResponse>()
    const secret = Buffer.from(o.secret)
    const server = createServer((req, res) => {
      const given = Buffer.from(String(req.headers['x-embrik-secret'] ?? ''))
      if (given.length !== secret.length || !timingSafeEqual(given, secret)) {
        res.writeHead(403).end()
        return
      }
      inCompartment(`request ${req.method} ${(req.url ?? '').split('?')[0]}`, () => handle(engine, streams, req, res)).catch((e: unknown) => {
        const known = e instanceof FailureError
        if (res.headersSent) res.destroy()
        else answer(res, known ? e.status : 500, failureOf(e))
      })
    })
    // Whoever asks ends what it does not need. If we did, a question could be on its way just then, and look as if nobody were here.
    server.keepAliveTimeout = 0
    await new Promise<void>((done, failed) => {
      server.once('error', failed)
      server.listen(o.port, o.host, done)
    })
    return new ControlServer(server, streams)
  }

  async stop(): Promise<void> {
    for (const s of this.streams) s.end()
    this.server.closeAllConnections()
    await new Promise<void>((done) => this.server.close(() => done()))
  }
}

function answer(res: ServerResponse, status: number, body: unknown): void {
  answerJson(res, status, JSON.stringify(body))
}

function answerJson(res: ServerResponse, status: number, text: string): void {
  res.writeHead(status, { 'content-type': 'application/json' }).end(text)
}

async function parse<S extends z.ZodType>(req: IncomingMessage, schema: S): Promise<z.infer<S>> {
  const chunks: Buffer[] = []
  let size = 0
  for await (const chunk of req) {
    size += (chunk as Buffer).length
    if (size > BODY_MAX) throw fail(413, 'input.large', 'The request is too large', 'Send less at once', 'engine')
    chunks.push(chunk as Buffer)
  }
  const parsed = schema.safeParse(JSON.parse(Buffer.concat(chunks).toString() || '{}'))
  if (!parsed.success) throw invalid(parsed.error, 'engine')
  return parsed.data
}

/** An empty line this often tells that a stream of steps is alive, ms. */
const STEPS_BEAT_MS = 2000

/** Streams steps as lines of JSON, each as soon as it is known; stops the check when the asker goes. */
async function steps(res: ServerResponse, generator: AsyncGenerator<object>): Promise<void> {
  res.writeHead(200, { 'content-type': 'application/x-ndjson', 'cache-control': 'no-store' })
  // Whoever reads can tell a quiet stream from one that is cut: an empty line is no item.
  const beat = setInterval(() => res.write('\n'), STEPS_BEAT_MS)
  try {
    for await (const step of generator) {
      if (res.destroyed) break
      res.write(`${JSON.stringify(step)}\n`)
    }
  } finally {
    clearInterval(beat)
  }
  res.end()
}

/** A stored source as its driver wants it. */
async function stored(engine: Engine, id: string): Promise<SourceTarget> {
  const { db, vault } = engine.options
  return engine.targets.sourceTarget(await getSource(db, id), await sourcePassword(db, vault, id))
}

/** Aborts when the asker goes. */
function gone(res: ServerResponse): AbortSignal {
  const controller = new AbortController()
  res.on('close', () => controller.abort())
  return controller.signal
}

async function handle(engine: Engine, streams: Set<ServerResponse>, req: IncomingMessage, res: ServerResponse): Promise<void> {
  const url = new URL(req.url ?? '/', 'http://engine')
  const { db, vault } = engine.options
  switch (`${req.method} ${url.pathname}`) {
    case 'GET /health':
      return answer(res, 200, { up: true, streams: streams.size })

    case 'GET /live': {
      const parts = new Set((url.searchParams.get('parts') ?? '').split(','))
      const messages = (url.searchParams.get('messages') ?? '').split(',').filter(Boolean).slice(0, 20)
      streams.add(res)
      res.on('close', () => streams.delete(res))
      new LiveStream(engine, res, parseHandles(url.searchParams.get('tags') ?? ''), parts, messages, url.searchParams.get('spark') === 'true')
      return
    }

    case 'GET /ledger':
      return answer(res, 200, engine.lines())

    case 'GET /clocks':
      return answer(res, 200, await clocksOf(engine))

    case 'GET /way': {
      const asked = WayQuery.safeParse(Object.fromEntries(url.searchParams))
      if (!asked.success) throw invalid(asked.error, 'engine')
      return answer(res, 200, await findWay(engine, asked.data))
    }

    case 'GET /wrong':
      return answer(res, 200, wrongNow(engine))

    case 'GET /states': {
      const bytes = encodeStates(
        [...engine.model.tags.values(), ...engine.model.recordTags].map((t) => t.handle),
        engine.table,
      )
      res.writeHead(200, { 'content-type': 'application/octet-stream' }).end(bytes)
      return
    }

    case 'GET /values':
      return answer(
        res,
        200,
        parseHandles(url.searchParams.get('tags') ?? '')
          .filter((h) => h < engine.table.status.length)
          .map((h) => [h, toWire(engine.table.value[h] ?? null), engine.table.status[h], engine.table.time[h], engine.table.seen[h]]),
      )

    case 'GET /conditions':
      return answer(res, 200, {
        sources: engine.sourceConditions(),
        publications: engine.publicationConditions(),
        destinations: engine.destinationConditions(),
        course: engine.course(),
      })

    case 'POST /sources/check': {
      const { instead, ...draft } = await parse(req, SourceCheck.and(z.object({ instead: Instead.optional() })))
      if (draft.id) demandTypedAgain(await getSource(db, draft.id), draft)
      const kept = draft.password === undefined && draft.id ? await sourcePassword(db, vault, draft.id) : null
      const target = await engine.targets.sourceTarget(draft, draft.password ?? kept, instead)
      return steps(res, sourceDriver(draft.kind).check(target, engine.sourceContext))
    }

    case 'POST /sources/browse': {
      const { id, address, deep } = await parse(req, BrowseQuery.extend({ id: Id }))
      const target = await stored(engine, id)
      return answer(res, 200, await sourceDriver(target.kind).browse(target, engine.sourceContext, address, deep))
    }

    case 'POST /sources/rows': {
      const { id, ...place } = await parse(req, RowPlace.extend({ id: Id }))
      return answer(res, 200, rowsLook(engine.documents, id, place))
    }

    case 'POST /sources/endpoints': {
      const { endpoint } = await parse(req, z.object({ endpoint: OpcUaEndpoint }))
      return answer(res, 200, await sourceDriver('opcua').endpoints!(endpoint, engine.sourceContext))
    }

    case 'POST /application/renew': {
      await engine.renewApplication()
      return answer(res, 200, {})
    }

    case 'POST /sources/restart': {
      await engine.restartSource((await parse(req, z.object({ id: Id }))).id)
      return answer(res, 200, {})
    }

    case 'POST /sources/registers': {
      const { id, ...query } = await parse(req, RegisterQuery.extend({ id: Id }))
      const target = await stored(engine, id)
      const look = sourceDriver(target.kind).registers
      if (!look) throw fail(409, 'source.registers', `${target.name} has no registers`, 'Registers are a matter of Modbus sources', 'source')
      return steps(res, look(target, query, gone(res)))
    }

    case 'POST /sources/watch': {
      const { id, ...query } = await parse(req, WatchNodes.extend({ id: Id }))
      const target = await stored(engine, id)
      // A second connection under one client id would end the first.
      if (target.kind === 'mqtt') throw fail(409, 'source.watch', 'Topics are listened to, not watched', 'See them under Topics', 'source')
      return steps(res, watchNodes(target, engine.sourceContext, query, gone(res)))
    }

    case 'POST /sources/listen': {
      const { id, ...query } = await parse(req, ListenQuery.extend({ id: Id }))
      const target = await stored(engine, id)
      const listen = sourceDriver(target.kind).listen
      if (!listen) throw fail(409, 'source.listen', `${target.name} has no topics`, 'Listening is a matter of MQTT sources', 'source')
      return steps(res, listen(target, query, gone(res)))
    }

    case 'POST /tags/write': {
      const { id, value, who } = await parse(req, TagWrite.extend({ id: Id, who: z.string().max(200) }))
      return answer(res, 200, { readBack: toWire(await engine.writeTag(id, fromWire(value), who)) })
    }

    case 'GET /note': {
      const note = engine.table.notes.get(Number(url.searchParams.get('tag')))
      return answer(res, 200, {
        at: note?.at ?? null,
        text: note?.text ?? '',
        code: note?.code ?? '',
        bytes: note?.bytes ? Buffer.from(note.bytes).toString('base64') : null,
      })
    }

    case 'POST /destinations/check': {
      const { instead, ...draft } = await parse(req, DestinationCheck.and(z.object({ instead: Instead.optional() })))
      return steps(res, engine.targets.checkDestination(draft, instead))
    }

    case 'POST /destinations/own-view':
      return answer(res, 200, await engine.ownViews.of((await parse(req, z.object({ id: Id }))).id))

    case 'POST /outbox/list': {
      const { destinationId, from } = await parse(req, z.object({ destinationId: Id, from: z.number().int().min(0) }))
      return answer(res, 200, await engine.waiting.list(destinationId, from))
    }

    case 'POST /outbox/open': {
      const { destinationId, delivery, seq } = await parse(req, z.object({ destinationId: Id, delivery: z.number().int(), seq: z.number().int() }))
      return answer(res, 200, await engine.waiting.open(destinationId, delivery, seq))
    }

    case 'POST /outbox/clear': {
      const { destinationId, ...which } = await parse(req, WhichWaiting.extend({ destinationId: Id }))
      return answer(res, 200, { cleared: await engine.waiting.clear(destinationId, which) })
    }

    case 'POST /journal/list': {
      const { destinationId, ...which } = await parse(req, WhichJournal.extend({ destinationId: Id }))
      return answer(res, 200, await engine.journal.list(destinationId, which))
    }

    case 'POST /journal/follow': {
      const { handle, since } = await parse(req, z.object({ handle: z.number().int(), since: z.number() }))
      return answer(res, 200, await engine.journal.follow(handle, since))
    }

    case 'POST /journal/open': {
      const { destinationId, delivery, seq, segment } = await parse(
        req,
        z.object({ destinationId: Id, delivery: z.number().int(), seq: z.number().int(), segment: z.number().int().nullable() }),
      )
      return answer(res, 200, await engine.journal.open(destinationId, { delivery, seq }, segment))
    }

    case 'POST /asides/send': {
      const again = await parse(
        req,
        z.object({ delivery: z.number().int(), topic: z.string(), payload: z.base64(), properties: z.string(), assurance: Aside.shape.assurance }),
      )
      const { payload, ...message } = again
      return answer(res, 200, { seq: await engine.publications.sendAgain({ ...message, payload: Buffer.from(payload, 'base64') }) })
    }

    case 'POST /publications/preview': {
      const { draft, equipmentId, publicationId, held } = await parse(
        req,
        z.object({ draft: PublicationDraft, equipmentId: Id.optional(), publicationId: Id.optional(), held: HeldValues.optional() }),
      )
      return answerJson(res, 200, await engine.preview(draft, equipmentId, publicationId, held))
    }

    case 'POST /publications/preflight': {
      const { draft, publicationId } = await parse(req, z.object({ draft: PublicationDraft, publicationId: Id }))
      return answerJson(res, 200, await engine.preflight(draft, publicationId))
    }

    case 'POST /publications/replay': {
      const { publicationId, ...query } = await parse(req, ReplayQuery.extend({ publicationId: Id }))
      return answerJson(res, 200, await engine.replay(publicationId, query))
    }

    case 'POST /publications/budget':
      return answerJson(res, 200, await engine.budget(await parse(req, BudgetQuery)))

    case 'POST /compare':
      return answerJson(res, 200, await engine.journal.compare(await parse(req, CompareQuery)))

    case 'POST /publications/sent': {
      const { publicationId, from, to } = await parse(req, z.object({ publicationId: Id, from: z.number(), to: z.number() }))
      return answerJson(res, 200, await engine.sentIn(publicationId, from, to))
    }

    case 'POST /proof-runs/start': {
      const { plan, by } = await parse(req, z.object({ plan: ProofPlan, by: z.string().max(200) }))
      return answer(res, 200, { id: await engine.proofRuns.start(plan, by) })
    }

    case 'POST /proof-runs/progress':
      return answer(res, 200, { progress: engine.proofRuns.progress((await parse(req, z.object({ id: Id }))).id) })

    case 'POST /proof-runs/stop': {
      const { id, by } = await parse(req, z.object({ id: Id, by: z.string().max(200) }))
      engine.proofRuns.stop(id, by)
      return answer(res, 200, {})
    }

    case 'POST /publications/scripts': {
      const { codes } = await parse(req, z.object({ codes: z.array(z.string().max(20_000)).max(50) }))
      return answer(res, 200, { problems: await engine.scriptProblems(codes) })
    }

    case 'POST /publications/say': {
      const { publicationId, version } = await parse(req, z.object({ publicationId: Id, version: z.number().int() }))
      return answer(res, 200, { messages: await engine.publications.say(publicationId, version) })
    }

    case 'POST /publications/schemas': {
      const { publicationId } = await parse(req, z.object({ publicationId: Id }))
      return answer(res, 200, await engine.registerSchemas(publicationId))
    }

    case 'POST /publications/contract': {
      const { draft, publicationId, as } = await parse(
        req,
        z.object({ draft: PublicationDraft, publicationId: Id, as: z.enum(['contract', 'asyncapi']) }),
      )
      return answerJson(res, 200, await engine.contract(draft, publicationId, as))
    }

    default: {
      const failure: Failure = { code: 'engine.unknown', message: 'Unknown request', hint: '', where: 'engine' }
      return answer(res, 404, failure)
    }
  }
}
