import { hostname } from 'node:os'
import type { Destination } from '~/contract/destination'
import { fail } from '~/contract/failure'
import type { CourseFigures, LastMessage, LedgerLine, LiveFrames } from '~/contract/live'
import type { Preview, PublicationDraft } from '~/contract/publication'
import type { Source, SourceDraft } from '~/contract/source'
import type { Tag } from '~/contract/tag'
import { certificateFacts } from '~/core/credential/certificate'
import { Account } from '~/core/delivery/account'
import { Teller } from '~/core/delivery/news'
import { compile } from '~/core/publication/compile'
import { asyncApi, contractOf } from '~/core/publication/contract'
import type { HostFacts } from '~/core/shape/shape'
import type { Scalar } from '~/core/value/deadband'
import { writeProblem } from '~/core/value/writing'
import { addCredential, applicationCredential, type OpenCredential, openCredential, replaceApplication } from '~/store/credential'
import { type Db, listen, type Noun, takeLease } from '~/store/database'
import { listDestinations } from '~/store/destination'
import { installationCode } from '~/store/person'
import { type DeliveryRow, listDeliveries, livePlans, retainedCleared, retainedToClear, witnessFilters } from '~/store/publication'
import { getSource, listSources, sourcePassword } from '~/store/source'
import type { Vault } from '~/store/vault'
import { courseOf } from './course'
import type { DestinationTarget } from './destinations/driver'
import { DestinationSupervisor, type Step } from './destinations/supervisor'
import { Events } from './events'
import { failureOf } from './failure'
import { Ledger } from './ledger/ledger'
import { Standing } from './live/standing'
import { LiveTable, SPARK_EVERY_MS } from './live/table'
import { log, wordsOf } from './log'
import { loadCompression } from './publications/compress'
import { previewOf } from './publications/preview'
import { Publisher } from './publications/publisher'
import type { SourceContext, SourceTarget } from './sources/driver'
import { makeApplicationCertificate } from './sources/opcua/application'
import { Simulation } from './sources/simulation'
import { SourceSupervisor } from './sources/supervisor'
import { ModelCache } from './world'

export interface EngineOptions {
  db: Db
  url: string
  vault: Vault
  workFolder: string
}

/** JSON where it is; else the text. */
function parsedOr(text: string): unknown {
  try {
    return JSON.parse(text)
  } catch {
    return text
  }
}

/** Of the program; told in messages about the node. */
const VERSION = '0.1.0'

/** How often people are told what went wrong with messages, ms: what happens together is told together. */
const NEWS_EVERY_MS = 5000

/** One running node: sources, live values, publications, outboxes, destinations, witnesses, ledger. */
export class Engine {
  readonly table = new LiveTable()
  readonly model = new ModelCache()
  readonly events: Events
  readonly ledger: Ledger
  readonly sources = new Map<string, SourceSupervisor>()
  private readonly simulation = new Simulation(this.table)
  private readonly host: HostFacts = { name: hostname(), version: VERSION, startedAt: Date.now() }
  private readonly standing: Standing
  readonly destinations = new Map<string, DestinationSupervisor>()
  readonly publishers = new Map<string, Publisher>()
  private readonly byDelivery = new Map<number, Publisher>()
  private deliveries: DeliveryRow[] = []
  private installation = ''
  sourceContext!: SourceContext
  private stopListening: (() => Promise<void>) | null = null
  private releaseLease: (() => Promise<void>) | null = null
  private pending = new Set<Noun>()
  private reloading: Promise<void> = Promise.resolve()
  private timers: NodeJS.Timeout[] = []
  private readonly tellers = new Map<number, Teller>()
  private stopped = false

  constructor(readonly options: EngineOptions) {
    this.events = new Events(options.db)
    this.standing = new Standing(options.db, this.table, () => this.model.tags.values())
    this.ledger = new Ledger(options.db)
  }

  /** Waits for the lease, reads everything and starts. */
  async start(): Promise<void> {
    const { db, vault, workFolder } = this.options
    await this.lease(true)
    this.installation = await installationCode(db)
    let application = await applicationCredential(db, vault)
    if (!application) {
      application = await makeApplicationCertificate(this.installation)
      await addCredential(db, vault, {
        name: 'Embrik application',
        kind: 'application',
        certificate: application.certificate,
        facts: await certificateFacts(application.certificate),
        user: null,
        secret: application.key,
      })
    }
    this.sourceContext = { application, workFolder }
    await loadCompression()
    await this.ledger.load()
    await this.listen()
    await this.model.loadTags(db)
    await this.model.loadEquipment(db)
    await this.standing.load()
    await this.reload(new Set<Noun>(['source', 'destination', 'publication']))
    this.ledger.start()
    for (const d of this.deliveries) this.tellers.set(d.number, new Teller(this.ledger.account(d.number).counts()))
    this.timers = [setInterval(() => this.tellNews(), NEWS_EVERY_MS)]
    this.timers.push(
      setInterval(() => {
        const handles: number[] = []
        for (const t of this.model.tags.values()) handles.push(t.handle)
        this.table.sample(handles)
      }, SPARK_EVERY_MS),
    )
  }

  private tellNews(): void {
    for (const d of this.deliveries) {
      let teller = this.tellers.get(d.number)
      // One that is new since the start has nothing behind it.
      if (!teller) this.tellers.set(d.number, (teller = new Teller(new Account(d.number).counts())))
      for (const n of teller.tell(this.ledger.account(d.number).counts(), Date.now()))
        this.events.add({ ...n, where: 'ledger', subjectId: d.publicationId, subject: `${d.publication}, to ${d.destination}` })
    }
  }

  private async lease(first: boolean): Promise<void> {
    for (let said = false; !this.stopped; ) {
      try {
        this.releaseLease = await takeLease(this.options.url, () => {
          if (!this.stopped) void this.lease(false)
        })
        if (this.releaseLease) return
        if (!first) {
          // Another engine took over while the database was away: two must not write one ledger.
          log('error', 'engine', 'another engine has taken over this database; this one ends')
          process.exit(75)
        }
        if (!said) log('info', 'engine', 'another engine works on this database; waiting to take over')
        said = true
      } catch (e) {
        if (first) log('warn', 'database', wordsOf(e))
      }
      await new Promise((done) => setTimeout(done, 300))
    }
  }

  private async listen(): Promise<void> {
    this.stopListening = await listen(
      this.options.url,
      (noun) => this.onNoun(noun),
      (e) => {
        log('warn', 'database', `announcements lost: ${wordsOf(e)}`)
        void this.listenAgain()
      },
    )
  }

  private async listenAgain(): Promise<void> {
    while (!this.stopped) {
      await new Promise((done) => setTimeout(done, 500))
      try {
        await this.listen()
        for (const noun of ['source', 'tag', 'equipment', 'destination', 'publication'] as const) this.onNoun(noun)
        return
      } catch {
        // Said once by `listen`'s loss; the next round tries again.
      }
    }
  }

  private onNoun(noun: Noun): void {
    if (this.pending.size === 0)
      setTimeout(() => {
        const nouns = this.pending
        this.pending = new Set()
        this.reloading = this.reloading
          .then(() => this.reload(nouns))
          .catch((e: unknown) => {
            log('error', 'engine', `reading the configuration: ${wordsOf(e)}; again in 2 s`)
            setTimeout(() => {
              if (!this.stopped) for (const n of nouns) this.onNoun(n)
            }, 2000).unref()
          })
      }, 30)
    this.pending.add(noun)
  }

  private async reload(nouns: Set<Noun>): Promise<void> {
    if (this.stopped) return
    const { db } = this.options
    if (nouns.has('tag')) await this.model.loadTags(db)
    const otherRecords = nouns.has('equipment') || nouns.has('tag') ? await this.model.loadEquipment(db) : false
    if (nouns.has('source') || nouns.has('tag') || otherRecords) await this.reloadSources()
    if (nouns.has('destination')) await this.reloadDestinations()
    if (nouns.has('publication') || nouns.has('destination')) await this.reloadPublications()
  }

  private async reloadSources(): Promise<void> {
    const { db } = this.options
    const wanted = new Map((await listSources(db)).map((s) => [s.id, s]))
    const stopping: Promise<void>[] = []
    for (const [id, running] of this.sources) {
      const now = wanted.get(id)
      if (now && now.version === running.source.version) continue
      this.sources.delete(id)
      stopping.push(running.stop())
    }
    await Promise.all(stopping)
    for (const source of wanted.values()) {
      if (this.sources.has(source.id)) continue
      this.sources.set(source.id, this.supervise(source))
    }
    const tags = new Map<string, Tag[]>()
    const simulated: Tag[] = []
    for (const t of this.model.tags.values()) {
      if (t.simulated) {
        simulated.push(t)
        continue
      }
      const list = tags.get(t.sourceId)
      if (list) list.push(t)
      else tags.set(t.sourceId, [t])
      this.table.ensure(t.handle)
    }
    for (const r of this.model.recordTags) {
      const list = tags.get(r.sourceId)
      if (list) list.push(r)
      else tags.set(r.sourceId, [r])
    }
    // First what is on simulation no more is forgotten there, then the sources take it up; and the other way round.
    this.simulation.release(simulated)
    await Promise.all([...this.sources].map(([id, s]) => s.setTags(tags.get(id) ?? [], this.model.groupRates)))
    this.simulation.take(simulated)
    this.standing.stand()
  }

  private supervise(source: Source): SourceSupervisor {
    const target = async () => this.sourceTarget(source, await sourcePassword(this.options.db, this.options.vault, source.id))
    return new SourceSupervisor(source, target, this.sourceContext, this.table, this.events)
  }

  /** A source with its secrets opened. */
  async sourceTarget(s: Pick<SourceDraft, 'name' | 'kind' | 'settings'>, password: string | null): Promise<SourceTarget> {
    const { authorityId, credentialId } = s.settings as { authorityId?: string | null; credentialId?: string | null }
    const open = (id: string | null | undefined) => (id ? openCredential(this.options.db, this.options.vault, id) : null)
    return { name: s.name, kind: s.kind, settings: s.settings, password, authority: await open(authorityId), credential: await open(credentialId) }
  }

  /** Writes a value to a tag's device for somebody, and gives what was read back; either way the event list tells who and when. */
  async writeTag(id: string, value: Scalar, who: string): Promise<Scalar> {
    const tag = this.model.tags.get(id)
    if (!tag) throw fail(404, 'tag.unknown', 'There is no such tag', 'It may have been removed: refresh the table', 'tag')
    const problem = writeProblem(tag, value)
    if (problem) throw fail(422, 'tag.write', `${tag.name} does not take ${String(value)}: ${problem}`, 'Nothing was written', 'tag')
    const tell = (severity: 'note' | 'warning', code: string, message: string, hint = '') =>
      this.events.add({ severity, where: 'tag', subjectId: tag.id, subject: tag.name, code, message, hint })
    const what = `${String(value)} ${tag.unit}`.trim()
    try {
      const writer = this.sources.get(tag.sourceId)?.writer
      if (!writer) throw fail(409, 'tag.write', 'Its source is not connected, or cannot write', 'Look at the source', 'source')
      const before = this.table.value[tag.handle]
      const readBack = await writer(tag, value)
      tell('note', 'tag.written', `${who} wrote ${what} (before: ${String(before ?? 'nothing')}, read back: ${String(readBack)})`)
      return readBack
    } catch (e) {
      const f = failureOf(e, 'tag')
      tell('warning', 'tag.write-failed', `${who} wanted to write ${what}: ${f.message}`, f.hint)
      throw e
    }
  }

  /** Makes Embrik a new certificate and connects every OPC UA source anew with it. */
  async renewApplication(): Promise<void> {
    const { db, vault } = this.options
    const made = await makeApplicationCertificate(this.installation)
    await replaceApplication(db, vault, { certificate: made.certificate, facts: await certificateFacts(made.certificate), key: made.key })
    this.sourceContext = { ...this.sourceContext, application: made }
    this.events.add({
      severity: 'warning',
      where: 'source',
      subjectId: null,
      subject: 'Embrik application',
      code: 'application.renewed',
      message: 'The certificate of Embrik was renewed',
      hint: 'OPC UA servers refuse it until somebody there trusts the new one',
    })
    for (const [id, s] of this.sources) if (s.source.kind === 'opcua') await this.restartSource(id)
  }

  /** Ends one source's connection and begins anew; the others don't notice. */
  restartSource(id: string): Promise<void> {
    const work = this.reloading.then(async () => {
      const old = this.sources.get(id)
      await old?.stop()
      this.sources.set(id, this.supervise(await getSource(this.options.db, id)))
      await this.reloadSources()
    })
    this.reloading = work.catch(() => undefined)
    return work
  }

  /** A destination with its credentials opened. */
  async target(d: Pick<Destination, 'name' | 'settings'>): Promise<DestinationTarget> {
    const { db, vault } = this.options
    const open = (id: string | null): Promise<OpenCredential> | null => (id ? openCredential(db, vault, id) : null)
    const { authorityId, credentialId, witnessCredentialId } = d.settings
    return {
      name: d.name,
      settings: d.settings,
      authority: await open(authorityId),
      credential: await open(credentialId),
      witnessCredential: await open(witnessCredentialId),
    }
  }

  private async reloadDestinations(): Promise<void> {
    const { db } = this.options
    const wanted = new Map((await listDestinations(db)).map((d) => [d.id, d]))
    for (const [id, running] of this.destinations) {
      const now = wanted.get(id)
      if (now && now.version === running.destination.version) continue
      if (!now) {
        this.destinations.delete(id)
        await running.stop()
      }
    }
    for (const d of wanted.values()) {
      const old = this.destinations.get(d.id)
      if (old && old.destination.version === d.version) continue
      try {
        const target = await this.target(d)
        const filters = await witnessFilters(db, d.id)
        await old?.stop(false)
        const next = new DestinationSupervisor(
          d,
          target,
          { db, installation: this.installation, ledger: this.ledger, events: this.events, step: (s, n, q, at) => this.step(s, n, q, at) },
          filters,
          old,
        )
        if (!old) await next.load()
        this.destinations.set(d.id, next)
        await next.start()
      } catch (e) {
        const f = failureOf(e, 'destination')
        this.events.add({
          severity: 'trouble',
          where: 'destination',
          subjectId: d.id,
          subject: d.name,
          code: f.code,
          message: f.message,
          hint: f.hint,
        })
      }
    }
  }

  private step(step: Step, delivery: number, seq: number, at: number): void {
    this.byDelivery.get(delivery)?.step(step, seq, at)
  }

  private async reloadPublications(): Promise<void> {
    const { db } = this.options
    // Plans first: what goes live while this reads is then either whole here, account and filters too, or left to the next time.
    const plans = new Map((await livePlans(db)).map((p) => [p.publicationId, p]))
    this.deliveries = await listDeliveries(db)
    for (const d of this.deliveries) {
      const running = this.destinations.get(d.destinationId)
      const witness = running?.witness ?? null
      const kept = running?.destination.settings.witness ?? false
      this.ledger.watch(d.number, witness ? () => witness.view() : kept ? () => null : null, (running?.destination.settings.lateS ?? 30) * 1000)
    }
    for (const [id, running] of this.publishers) {
      if (plans.get(id)?.number === running.plan.number) continue
      running.stop()
      this.publishers.delete(id)
      this.byDelivery.delete(running.plan.delivery)
      if (!plans.has(id)) this.publicationEvent(id, running.plan.name, 'note', 'publication.paused', 'paused')
    }
    for (const [id, d] of this.destinations) {
      if (!d.witness) continue
      await d.watch(await witnessFilters(db, id))
    }
    for (const plan of plans.values()) {
      const topics = this.destinations.get(plan.destinationId)?.topics
      for (const m of plan.messages) if (typeof m.topic === 'string') topics?.add(m.topic, this.ledger.account(plan.delivery))
      if (this.publishers.has(plan.publicationId)) continue
      const publisher = new Publisher(plan, this.table, this.ledger, () => this.destinations.get(plan.destinationId)?.outbox ?? null, this.host)
      this.publishers.set(plan.publicationId, publisher)
      this.byDelivery.set(plan.delivery, publisher)
      this.publicationEvent(
        plan.publicationId,
        plan.name,
        'good',
        'publication.live',
        `live, version ${plan.number}, ${plan.equipment.length} equipment`,
      )
    }
    await this.clearRetained()
    this.giveSessions()
  }

  /** Sends what takes old retained messages back, and forgets them once that is in the outbox. */
  private async clearRetained(): Promise<void> {
    const { db } = this.options
    for (const [delivery, topics] of await retainedToClear(db)) {
      const publisher = this.byDelivery.get(delivery)
      if (!publisher || !this.destinations.has(publisher.plan.destinationId)) continue
      publisher.clearRetained(topics)
      await retainedCleared(db, delivery, topics)
    }
  }

  /** Connections that speak for a node get its session; the others none. */
  private giveSessions(): void {
    const sessions = new Map([...this.publishers.values()].flatMap((p) => (p.session ? [[p.plan.destinationId, p.session] as const] : [])))
    for (const [id, destination] of this.destinations) destination.speakFor(sessions.get(id) ?? null)
  }

  /** A draft with the values of this moment, beside what is live. */
  preview(draft: PublicationDraft, equipmentId?: string, publicationId?: string): Preview {
    const settings = this.destinations.get(draft.destinationId)?.destination.settings
    return previewOf(draft, this.model, this.table, {
      host: this.host,
      plans: [...this.publishers.values()].map((p) => p.plan),
      ...(publicationId !== undefined && this.publishers.has(publicationId) && { rates: this.publishers.get(publicationId)!.rates() }),
      ...(equipmentId !== undefined && { equipmentId }),
      ...(publicationId !== undefined && { publicationId }),
      ...(settings && { headersLost: settings.protocol !== '5' }),
    })
  }

  /** What receivers are given: of the live version, or of the draft where nothing is live. */
  contract(draft: PublicationDraft, publicationId: string, as: 'contract' | 'asyncapi'): object {
    const live = this.publishers.get(publicationId)?.plan
    const plan = live ?? { ...draft, ...compile(draft, this.model).body, publicationId, number: 0 }
    // Of the live version a message that went out; the draft may have been edited since.
    const message = this.publishers.get(publicationId)?.last?.message ?? this.preview(draft, undefined, publicationId).message
    const example =
      message && !message.binary && message.read.problem === '' ? parsedOr(message.payload) : message ? { base64: message.payload } : null
    if (as === 'contract') return contractOf(plan, example)
    const destination = this.destinations.get(draft.destinationId)?.destination
    const s = destination?.settings
    const server = {
      name: destination?.name ?? 'broker',
      host: s ? `${s.host}:${s.port}` : 'unknown',
      protocol: s?.tls ? 'secure-mqtt' : 'mqtt',
      version: s?.protocol ?? '5',
    }
    return asyncApi(plan, server, example)
  }

  private publicationEvent(id: string, name: string, severity: 'good' | 'note', code: string, message: string): void {
    this.events.add({ severity, where: 'publication', subjectId: id, subject: name, code, message, hint: '' })
  }

  // ---- what is shown

  lines(): LedgerLine[] {
    return this.deliveries.flatMap((d) => {
      const counts = this.ledger.countsOf(d.number)
      if (!counts) return []
      return [
        {
          delivery: d.number,
          publicationId: d.publicationId,
          publication: d.publication,
          destinationId: d.destinationId,
          destination: d.destination,
          counts,
          latency: this.ledger.latencyOf(d.number),
          witness: this.ledger.witnessOf(d.number),
        },
      ]
    })
  }

  course(): CourseFigures {
    return courseOf(this, this.deliveries)
  }

  sourceConditions(): LiveFrames['sources'] {
    return Object.fromEntries([...this.sources].map(([id, s]) => [id, s.present()]))
  }

  destinationConditions(): LiveFrames['destinations'] {
    return Object.fromEntries(
      [...this.destinations].map(([id, d]) => [
        id,
        {
          sender: d.present(),
          witness: d.witness?.present() ?? null,
          waiting: d.outbox.waiting,
          bytes: d.outbox.bytes,
          capBytes: d.outbox.cap,
        },
      ]),
    )
  }

  publicationConditions(): LiveFrames['publications'] {
    return Object.fromEntries([...this.publishers].map(([id, p]) => [id, p.present(this.destinations.get(p.plan.destinationId)?.present() ?? null)]))
  }

  lastMessage(publicationId: string): LastMessage | null {
    return this.publishers.get(publicationId)?.last ?? null
  }

  async stop(): Promise<void> {
    this.stopped = true
    for (const t of this.timers) clearInterval(t)
    for (const p of this.publishers.values()) p.stop()
    this.simulation.stop()
    await this.standing.stop()
    await Promise.all([...this.sources.values()].map((s) => s.stop()))
    await Promise.all([...this.destinations.values()].map((d) => d.stop()))
    await this.ledger.close()
    await this.events.close()
    await this.stopListening?.().catch(() => undefined)
    await this.releaseLease?.().catch(() => undefined)
  }
}
