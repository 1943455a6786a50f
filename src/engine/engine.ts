import { arch, cpus, hostname, platform, release, totalmem } from 'node:os'
import type { BudgetQuery } from '~/contract/budget'
import { fail } from '~/contract/failure'
import type { CourseFigures, LastMessage, LedgerLine, LiveFrames } from '~/contract/live'
import type { ProofReport } from '~/contract/prove'
import type { HeldValues, PublicationDraft } from '~/contract/publication'
import type { ReplayQuery } from '~/contract/replay'
import { kindOf, sentAs } from '~/core/address/kinds'
import { placeText } from '~/core/address/topic-template'
import { certificateFacts } from '~/core/credential/certificate'
import type { RegisteredSchema } from '~/core/publication/registered'
import type { HostFacts } from '~/core/shape/shape'
import type { Scalar } from '~/core/value/deadband'
import { writeProblem } from '~/core/value/writing'
import { addCredential, applicationCredential, replaceApplication } from '~/store/credential'
import { type Db, type Noun, openDeliveryDatabase } from '~/store/database'
import { PgDeliveryStore, storeTrouble } from '~/store/delivery'
import { Lease } from '~/store/lease'
import { installationCode } from '~/store/person'
import { allReads, type DeliveryRow } from '~/store/publication'
import type { Vault } from '~/store/vault'
import { Asides } from './asides'
import { type Cancel, type Clock, within } from './clock/clock'
import { stepWords, watchClock } from './clock/clock-watch'
import { realClock } from './clock/real-clock'
import { clocksOff } from './clocks'
import { Configuration } from './configuration'
import { Destinations } from './destinations/destinations'
import type { PlannedSend } from './destinations/driver'
import { driverOf } from './destinations/registry'
import type { DestinationSupervisor } from './destinations/supervisor'
import { Events } from './events'
import { failureOf } from './failure'
import { JournalView } from './journal-view'
import { LeaseKeeper } from './lease-keeper'
import { HighWaterFile } from './ledger/high-water-file'
import { Ledger } from './ledger/ledger'
import { Standing } from './live/standing'
import { LiveTable, SPARK_EVERY_MS } from './live/table'
import { log, wordsOf } from './log'
import { News } from './news'
import { deflatePacking } from './outbox/packing'
import { OwnViews } from './own-views'
import { ProofRuns } from './prove/proof-runs'
import { loadCompression } from './publications/compress'
import { scriptOf } from './publications/flow'
import { Joining } from './publications/joining'
import { type Previews, previewsHere, ThreadedPreviews } from './publications/previews'
import { Publications } from './publications/publications'
import type { Publisher, TroubleIn } from './publications/publisher'
import { registerFor } from './publications/register'
import { Recorder, type RecordingLimits } from './recording/recorder'
import { Renewal } from './renewal'
import { problemWords, type ScriptProblem } from './scripts/script'
import { type Scripts, scriptsHere, ThreadedScripts } from './scripts/scripts'
import { Shown } from './shown'
import { Documents } from './sources/documents'
import type { SourceContext } from './sources/driver'
import { makeApplicationCertificate } from './sources/opcua/application'
import { Sources } from './sources/sources'
import type { SourceSupervisor } from './sources/supervisor'
import { StoreState } from './store-state'
import { LOOK_MS, TagTroubles } from './tag-troubles'
import { Targets } from './targets'
import { Tokens } from './tokens'
import { Trimming } from './trimming'
import { VERSION } from './version'
import { Waiting } from './waiting'
import { ModelCache } from './world'

export interface EngineOptions {
  db: Db
  url: string
  vault: Vault
  workFolder: string
  clock?: Clock
  /** The bundle of the thread in which drafts are computed; else they are computed in this one. */
  previewProgram?: URL | string
  /** The bundle of the thread in which scripts run; else they run in this one. */
  scriptProgram?: URL | string
  /** How much of what tags held is kept; absent: a day, in 200 MB. */
  recording?: RecordingLimits
  /** Another engine has taken over; unless given, the process ends. */
  takenOver?: () => void
}

/** What becomes of messages that there never are, and what to do. */
const troubleWords: Record<TroubleIn, { what: string; hint: string }> = {
  making: { what: "its messages can't be made", hint: 'Correct its shape or address and go live again; others go on' },
  step: { what: 'messages do not get through', hint: 'Correct the step and go live again; others go on' },
  rows: {
    what: "its rows can't be read",
    hint: 'Change what the source asks for, or where its rows stand; until then nothing is told, and nothing is taken for gone',
  },
}

const RECORDING: RecordingLimits = { bytes: 200_000_000, ageMs: 86_400_000 }

const problemOf = (problem: ScriptProblem | null): string | null => problem && problemWords(problem)

/** How often people are told what went wrong with messages, ms: what happens together is told together. */
const NEWS_EVERY_MS = 5000
/** So long a start waits for single things to be taken up before it says that it is up, ms. */
const TAKE_UP_MS = 5000
/** Exit code of an engine that another one has taken over from. */
const TAKEN_OVER = 75

/** One running node: sources, live values, publications, outboxes, destinations, witnesses, ledger. */
export class Engine {
  readonly clock: Clock
  readonly table = new LiveTable()
  readonly model = new ModelCache()
  /** Whole answers of sources that are read as documents. */
  readonly documents = new Documents()
  readonly events: Events
  readonly storeState: StoreState
  readonly ledger: Ledger
  readonly publications: Publications
  private readonly asides: Asides
  private readonly lease: LeaseKeeper
  private readonly configuration: Configuration
  private readonly allSources: Sources
  private readonly allDestinations: Destinations
  private readonly news: News
  readonly tagTroubles: TagTroubles
  private readonly shown: Shown
  private readonly standing: Standing
  private readonly trimming: Trimming
  private readonly recorder: Recorder
  private readonly previews: Previews
  private readonly scripts: Scripts
  private readonly tokens: Tokens
  readonly renewal: Renewal
  readonly targets: Targets
  readonly ownViews: OwnViews
  readonly waiting: Waiting
  readonly journal: JournalView
  readonly joining: Joining
  readonly proofRuns = new ProofRuns(this)
  private readonly host: HostFacts = { name: hostname(), version: VERSION, startedAt: Date.now() }
  private readonly deliveryDb: Db
  private installation = ''
  sourceContext!: SourceContext
  private timers: Cancel[] = []
  private stopped = false
  private ending: Promise<void> | null = null

  constructor(readonly options: EngineOptions) {
    const { db, url, vault } = options
    const clock = (this.clock = options.clock ?? realClock)
    // What tells of trouble must not wait for a database that hangs longer than delivery does.
    this.deliveryDb = openDeliveryDatabase(url, (e) => log('warn', 'database', wordsOf(e)))
    this.events = new Events(this.deliveryDb)
    this.asides = new Asides(this.deliveryDb)
    this.storeState = new StoreState(this.events, clock)
    this.standing = new Standing(db, this.table, () => this.model.tags.values())
    this.trimming = new Trimming(db)
    this.recorder = new Recorder({
      ...{ db: this.deliveryDb, clock, table: this.table, packing: deflatePacking, troubleOf: storeTrouble },
      limits: options.recording ?? RECORDING,
      epoch: () => this.lease.epoch,
      event: (severity, code, message, hint) =>
        this.events.add({ severity, where: 'database', subjectId: null, subject: 'Recording', code, message, hint }),
    })
    this.tokens = new Tokens(clock, () => this.configuration.changed('credential'))
    this.targets = new Targets({
      db,
      vault,
      tokens: this.tokens,
      context: () => this.sourceContext,
      plannedFor: (id) => this.plannedFor(id),
      isConnected: (id, target) => this.destinations.get(id)?.isConnectedBy(target) ?? false,
    })
    this.ownViews = new OwnViews(db, this.targets, clock)
    this.renewal = new Renewal({
      db,
      vault,
      clock,
      tried: (use, instead) => this.targets.tried(use, instead),
      event: (severity, subject, code, message, hint) =>
        this.events.add({ severity, where: 'credential', subjectId: null, subject, code, message, hint }),
    })
    const { previewProgram, scriptProgram } = options
    this.scripts = scriptProgram ? new ThreadedScripts(scriptProgram, clock) : scriptsHere()
    this.previews = previewProgram ? new ThreadedPreviews(previewProgram, url, this, clock) : previewsHere(db, this)
    this.lease = new LeaseKeeper(new Lease(url), clock, () => this.takenOver())
    const store = new PgDeliveryStore(this.deliveryDb, () => this.lease.epoch)
    const fenced = () => this.lease.lost()
    const { storeState } = this
    this.ledger = new Ledger({
      store,
      clock,
      fenced,
      troubleOf: storeTrouble,
      highWater: new HighWaterFile(
        options.workFolder,
        () => this.installation,
        () => this.lease.valid(),
      ),
      trouble: (t) => (t ? storeState.report('ledger', t.kind, t.words) : storeState.well('ledger')),
    })
    this.news = new News(this.ledger, this.events, (d) => this.permissions(d))
    this.allSources = new Sources({
      db,
      vault,
      table: this.table,
      model: this.model,
      events: this.events,
      documents: this.documents,
      context: () => this.sourceContext,
      target: (s, password) => this.targets.sourceTarget(s, password),
    })
    const engine = this
    this.allDestinations = new Destinations(db, {
      clock,
      store,
      packing: deflatePacking,
      get installation() {
        return engine.installation
      },
      ledger: this.ledger,
      event: (d, severity, code, message, hint) =>
        this.events.add({ severity, where: 'destination', subjectId: d.parentId ?? d.id, subject: d.name, code, message, hint }),
      target: (d) => this.targets.target(d),
      maySend: () => this.lease.valid(),
      mayHold: () => this.lease.mayHold(),
      fenced,
      storeTrouble: (who, t) => (t ? storeState.report(who, t.kind, t.words, t.lost) : storeState.well(who)),
      troubleOf: storeTrouble,
      step: (step, delivery, seq, at) => this.publications.of(delivery)?.shown.step(step, seq, at),
      putAside: (a) => this.asides.add(a),
      deliveriesOf: (id) => this.publications.deliveriesOf(id),
      isThere: (delivery) => this.publications.isThere(delivery),
    })
    this.publications = new Publications({
      db,
      clock,
      table: this.table,
      ledger: this.ledger,
      destinations: this.allDestinations,
      scripts: this.scripts,
      documents: this.documents,
      mayKeep: () => this.lease.valid(),
      host: this.host,
      event: (id, subject, severity, code, message, hint = '') =>
        this.events.add({ severity, where: 'publication', subjectId: id, subject, code, message, hint }),
      trouble: (id, subject, e, where) => {
        const { what, hint } = troubleWords[where]
        const message = `${what}: ${wordsOf(e)}`
        this.events.add({ severity: 'trouble', where: 'publication', subjectId: id, subject, code: 'publication.fails', message, hint })
      },
    })
    this.waiting = new Waiting(this.allDestinations, this.publications)
    this.journal = new JournalView(this.allDestinations, this.publications, this.ledger, this.previews)
    this.tagTroubles = new TagTroubles({
      clock,
      table: this.table,
      tags: () => this.model.tags.values(),
      upSource: (id) => this.upSource(id),
      event: (severity, subject, message, hint) =>
        this.events.add({ severity, where: 'tag', subjectId: null, subject, code: 'tag.quality', message, hint }),
    })
    this.joining = new Joining({
      db,
      clock,
      mayKeep: () => this.lease.valid(),
      ask: (q) => this.previews.ask(q),
      register: (id) => this.registerSchemas(id),
      event: (id, subject, severity, code, message, hint = '') =>
        this.events.add({ severity, where: 'publication', subjectId: id, subject, code, message, hint }),
    })
    this.shown = new Shown(this)
    this.configuration = new Configuration(url, (nouns) => this.read(nouns))
  }

  get sources(): ReadonlyMap<string, SourceSupervisor> {
    return this.allSources.running
  }

  get destinations(): ReadonlyMap<string, DestinationSupervisor> {
    return this.allDestinations.running
  }

  get publishers(): ReadonlyMap<string, Publisher> {
    return this.publications.running
  }

  /** Name of a source that runs; null: its own trouble, or its being off, says all about its tags. */
  private upSource(id: string): string | null {
    const s = this.sources.get(id)
    return s?.present().state === 'running' ? s.source.name : null
  }

  private takenOver(): void {
    log('error', 'engine', 'another engine has taken over this database; this one ends')
    if (this.options.takenOver) this.options.takenOver()
    else process.exit(TAKEN_OVER)
  }

  /** Waits for the lease, reads everything and starts. */
  async start(): Promise<void> {
    const { db, vault, workFolder } = this.options
    await this.lease.acquire()
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
    if (this.ledger.older) this.databaseIsOlder()
    await this.model.loadTags(db)
    await this.model.loadEquipment(db)
    await this.standing.load()
    await this.configuration.start()
    await within(this.clock, TAKE_UP_MS, Promise.all([this.allDestinations.settled(), this.allSources.settled()]))
    this.ledger.start()
    this.news.begin(this.publications.deliveries)
    this.timers = [
      this.clock.every(NEWS_EVERY_MS, () => {
        this.news.tell(this.publications.deliveries, this.clock.mono())
        if (this.publications.toBeTried) this.configuration.changed('publication')
      }),
      this.clock.every(SPARK_EVERY_MS, () => {
        const handles: number[] = []
        for (const t of this.model.tags.values()) handles.push(t.handle)
        this.table.sample(handles)
      }),
      this.clock.every(LOOK_MS, () => this.tagTroubles.look()),
      this.tokens.watch(),
      watchClock(this.clock, (by) => this.clockStepped(by)),
    ]
    await this.proofRuns.begin()
    this.trimming.start()
    this.recorder.start()
    this.renewal.start()
  }

  private databaseIsOlder(): void {
    this.events.add({
      severity: 'trouble',
      where: 'engine',
      subjectId: null,
      subject: 'Database',
      code: 'store.older',
      message: 'The database is older than what this node last wrote: it came back from a copy',
      hint: 'Numbers go on where they were; what was sent since the copy was made is unknown. What waited in its outboxes then goes out again',
    })
  }

  /** What connects by something that a credential holds no more connects anew; all else goes on. */
  private async credentialsChanged(): Promise<void> {
    await this.allDestinations.credentialsChanged()
    await this.allSources.credentialsChanged()
  }

  /** Whose permissions decide about a delivery. */
  private permissions(d: DeliveryRow): string {
    const to = this.destinations.get(d.lane)?.destination
    const reads = this.publishers.get(d.publicationId)?.plan.reads ?? []
    return to ? driverOf(to.kind).rights(to.settings, reads) : 'at its destination'
  }

  private clockStepped(by: number): void {
    this.events.add({
      severity: 'warning',
      where: 'engine',
      subjectId: null,
      subject: 'Clock',
      code: 'clock.step',
      message: `The clock of this machine was set ${stepWords(by)}`,
      hint: 'Times in messages follow it; rates, limits and waits do not. Certificates and tokens may be off: let a time service steer the clock',
    })
  }

  /** Reads one set of things and takes it up, each on its own; gives those that could not be read. */
  private async read(nouns: ReadonlySet<Noun>): Promise<Noun[]> {
    const { db } = this.options
    const failed: Noun[] = []
    const part = async (names: Noun[], work: () => Promise<void>) => {
      if (this.stopped) return
      try {
        await work()
      } catch (e) {
        log('error', 'engine', `reading ${names.join(' and ')}: ${wordsOf(e)}; again in 2 s`)
        failed.push(...names)
      }
    }
    const has = (...names: Noun[]) => names.some((n) => nouns.has(n))
    this.previews.changed(nouns)
    let others = false
    if (has('tag')) await part(['tag'], () => this.model.loadTags(db))
    if (has('equipment', 'tag'))
      await part(['equipment'], async () => {
        others = await this.model.loadEquipment(db)
      })
    if (has('source', 'tag') || others)
      await part(['source'], async () => {
        await this.allSources.reconcile()
        this.standing.stand()
      })
    if (has('equipment', 'publication')) this.joining.changed()
    if (has('credential')) await part(['credential'], () => this.credentialsChanged())
    if (has('destination', 'publication'))
      await part(['destination', 'publication'], async () => {
        const filters = await allReads(db)
        await this.publications.readDeliveries()
        await this.allDestinations.reconcile(filters)
        await this.publications.reconcile()
      })
    return failed
  }

  /** Has the registry of its destination know the schemas of a publication as it would go live now. */
  registerSchemas(publicationId: string): Promise<RegisteredSchema[]> {
    return registerFor(this.options.db, publicationId, (d) => this.targets.target(d), this.clock)
  }

  /** What publications that run send to a destination: a topic of each, and how large its messages are of late. */
  plannedFor(destinationId: string): PlannedSend[] {
    return [...this.publishers.values()].flatMap(({ plan, shown: { message: last } }) => {
      const first = plan.messages[0]
      if (plan.destinationId !== destinationId || !first) return []
      const keys = plan.equipment[first.equipment[0] ?? 0]?.members.map((m) => m.key)
      const topic = last?.topic ?? placeText(first.place, keys)
      const { assurance, kept } = sentAs(plan.address)
      return topic === '' ? [] : [{ publication: plan.name, topic, assurance, kept, bytes: last?.message.bytes ?? null }]
    })
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

  /** Tells that the run before was ended since its loop stood still. */
  tellStoodStill(where: string, seconds: number): void {
    this.events.add({
      severity: 'trouble',
      where: 'engine',
      subjectId: null,
      subject: where || 'engine',
      code: 'engine.stood-still',
      message: `the engine stood still for ${seconds} s${where ? ` in ${where}` : ''}; it was ended and started anew`,
      hint: where ? 'Look at what was changed there last: it goes wrong again if it stays as it is' : 'The log of the engine has more',
    })
  }

  /** Ends one source's connection and begins anew; the others don't notice. */
  restartSource(id: string): Promise<void> {
    return this.configuration.after(() => this.allSources.restart(id))
  }

  /** A draft with the values of this moment, beside what is live; as JSON. */
  preview(draft: PublicationDraft, equipmentId?: string, publicationId?: string, held?: HeldValues): Promise<string> {
    return this.previews.ask({
      kind: 'preview',
      ...this.draftQuestion(draft, publicationId),
      ...(equipmentId !== undefined && { equipmentId }),
      ...(held && { held }),
    })
  }

  /** All that is to be known of a draft before it goes live; as JSON. */
  preflight(draft: PublicationDraft, publicationId: string): Promise<string> {
    const sender = this.destinations.get(draft.destinationId)?.present()
    const away = sender?.state === 'trouble' ? sender.reason : undefined
    const clocks = clocksOff(this)
    return this.previews.ask({ kind: 'preflight', ...this.draftQuestion(draft, publicationId), clocks, ...(away !== undefined && { away }) })
  }

  /** What was sent in a span of time, sent once more through a draft; as JSON. */
  replay(publicationId: string, { draft, from, to }: ReplayQuery): Promise<string> {
    return this.previews.ask({ kind: 'replay', draft, host: this.host, publicationId, from, to })
  }

  /** What a draft would have sent of what was recorded, and what of it would be lost; as JSON. */
  budget({ draft, from, to }: BudgetQuery): Promise<string> {
    const { destination } = this.draftQuestion(draft)
    return this.previews.ask({
      kind: 'budget',
      draft,
      from,
      to,
      host: this.host,
      installation: this.installation,
      ...(destination && { destination }),
    })
  }

  /** What a publication really sent in a span of time, out of the journal; as JSON. */
  sentIn(publicationId: string, from: number, to: number): Promise<string> {
    const plan = this.publishers.get(publicationId)?.plan
    const destination = plan && this.destinations.get(plan.destinationId)?.destination
    return this.previews.ask({ kind: 'sent', publicationId, from, to, installation: this.installation, ...(destination && { destination }) })
  }

  private draftQuestion(draft: PublicationDraft, publicationId?: string) {
    const destination = this.destinations.get(draft.destinationId)?.destination
    const live = publicationId === undefined ? undefined : this.publishers.get(publicationId)
    return {
      draft,
      host: this.host,
      ...(publicationId !== undefined && { publicationId }),
      ...(live && { liveVersion: live.plan.number, rates: live.rates() }),
      ...(destination && { destination }),
    }
  }

  /** What is wrong with scripts as they are written; null: nothing. */
  scriptProblems(codes: readonly string[]): Promise<(string | null)[]> {
    return Promise.all(codes.map(async (code) => problemOf(await this.scripts.check(scriptOf(code)))))
  }

  /** What receivers are given: of the live version, or of the draft where nothing is live; as JSON. */
  contract(draft: PublicationDraft, publicationId: string, as: 'contract' | 'asyncapi'): Promise<string> {
    const live = this.publishers.get(publicationId)?.plan
    const destination = this.destinations.get(draft.destinationId)?.destination
    const unknown = { host: 'unknown', protocol: 'unknown', version: '', headers: true }
    const server = { name: destination?.name ?? 'unknown', ...(destination ? kindOf(destination).server(destination.settings) : unknown) }
    return this.previews.ask({ kind: 'contract', draft, host: this.host, publicationId, as, server, ...(live && { liveVersion: live.number }) })
  }

  /** The connections of a destination. */
  lanesOf(destinationId: string): DestinationSupervisor[] {
    return this.allDestinations.lanesOf(destinationId)
  }

  /** Simulated tags move so many times as fast, until `multiple` is 1; gives how many do. */
  pace(handles: ReadonlySet<number>, multiple: number): number {
    return this.allSources.pace(handles, multiple)
  }

  /** Where it runs. */
  environment(): ProofReport['environment'] {
    return {
      ...{ installation: this.installation, node: this.host.name, embrik: this.host.version, runtime: `Node.js ${process.versions.node}` },
      ...{ system: `${platform()} ${release()}, ${arch()}`, processors: cpus().length, memoryMb: Math.round(totalmem() / (1 << 20)) },
    }
  }

  lines(): LedgerLine[] {
    return this.shown.lines()
  }

  course(): CourseFigures {
    return this.shown.course()
  }

  sourceConditions(): LiveFrames['sources'] {
    return this.shown.sources()
  }

  destinationConditions(): LiveFrames['destinations'] {
    return this.shown.destinations()
  }

  publicationConditions(): LiveFrames['publications'] {
    return this.shown.publications()
  }

  lastMessage(publicationId: string): LastMessage | null {
    return this.publishers.get(publicationId)?.shown.message ?? null
  }

  /** Ends all, once. */
  stop(): Promise<void> {
    return (this.ending ??= this.end())
  }

  private async end(): Promise<void> {
    this.stopped = true
    for (const cancel of this.timers) cancel()
    this.trimming.stop()
    this.renewal.stop()
    await this.proofRuns.end()
    await this.joining.stop()
    await this.publications.stop()
    this.scripts.stop()
    await this.previews.stop()
    await this.configuration.stop()
    await this.standing.stop()
    await this.allSources.stop()
    await this.recorder.stop()
    await this.allDestinations.stop()
    await this.ledger.close()
    await this.asides.close()
    await this.events.close()
    await this.lease.release()
    await this.deliveryDb.destroy().catch(() => undefined)
  }
}
