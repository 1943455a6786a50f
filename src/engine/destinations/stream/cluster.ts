import type { ConnectionOptions as TlsOptions } from 'node:tls'
import {
  apiVersionsV3,
  Connection,
  fetchV12,
  fetchV13,
  initProducerIdV4,
  listOffsetsV7,
  metadataV9,
  metadataV10,
  produceV9,
  type RecordsBatch,
  ResponseError,
  type SASLOptions,
} from '@platformatic/kafka'
import { type Failure, FailureError, fail } from '~/contract/failure'
import { certificateFailure } from '../../net/peer-certificate'
import { reach } from '../../net/reach'
import { meaningOf } from './answers'

/** How a cluster is reached. */
export interface StreamAccess {
  /** Any of these tells about all others. */
  servers: readonly { host: string; port: number }[]
  clientId: string
  tls: TlsOptions | null
  login: { mechanism: 'PLAIN' | 'SCRAM-SHA-256' | 'SCRAM-SHA-512'; user: string; password: string } | null
  /** An answer takes so long at most, ms. */
  answerMs: number
}

export interface TopicState {
  /** Of the protocol; 0: it is there. */
  error: number
  /** Node that leads each partition, by its number; -1: none. */
  leaders: readonly number[]
  /** Of the topic as it was made: one of the same name that is made anew has another; empty: the cluster does not tell it. */
  id: string
}

/** A topic that is not there, by the error of the protocol. */
export const noTopic: TopicState = { error: 3, leaders: [], id: '' }

/** What one batch of a produce request came to. */
export interface BatchAnswer {
  topic: string
  partition: number
  error: number
  detail: string | null
}

/** A partition of a topic. */
export interface Place {
  topic: string
  partition: number
}

/** A partition from which records are wanted. */
export interface WantedPlace extends Place {
  offset: bigint
  /** Id of its topic; empty: that is not known. */
  id: string
}

/** What came of one partition. */
export interface Fetched extends Place {
  error: number
  /** Offset of the next record that will come there. */
  end: bigint
  batches: readonly RecordsBatch[]
}

type ProduceRecord = Parameters<typeof produceV9.api.async>[3] extends readonly (infer R)[] ? R : never
/** Null as its value: the key is taken back. The library writes that, though its type does not say so. */
export type SentRecord = Omit<ProduceRecord, 'value'> & { value: Buffer | null }
type BatchOptions = NonNullable<Parameters<typeof produceV9.api.async>[4]>

const CONNECT_MS = 10_000
const METADATA = 3
const FETCH = 1
const NO_ID = '00000000-0000-0000-0000-000000000000'

/** An answer that tells of errors is an answer: who asked looks at them one by one. */
async function answered<R>(work: Promise<R>): Promise<R> {
  try {
    return await work
  } catch (e) {
    const response = e instanceof ResponseError ? (e as ResponseError & { response?: R }).response : undefined
    if (response !== undefined) return response
    throw e
  }
}

const deepest = (e: unknown): unknown => (e instanceof Error && e.cause ? deepest(e.cause) : e)
const listed = (e: unknown): string => {
  const { errors, apiId, code, message } = e as { errors?: unknown[]; apiId?: string; code?: string; message?: string }
  return [apiId, code, message, ...(errors ?? []).map(listed)].filter(Boolean).join(' ')
}

/** Why a connection could not be made or was lost, with what to do. */
export function streamFailure(e: unknown, place: string): Failure {
  if (e instanceof FailureError) return e.failure
  const text = `${listed(e)} ${listed(deepest(e))}`
  const of = (code: string, message: string, hint: string): Failure => ({ code: `stream.${code}`, message, hint, where: 'destination' })
  if (/UNSUPPORTED_SASL_MECHANISM/.test(text))
    return of('mechanism', `${place} does not know this way to log in`, 'Ask which SASL mechanism it wants: PLAIN, SCRAM-SHA-256 or SCRAM-SHA-512')
  if (/SASL_AUTHENTICATION_FAILED|Authentication ?Error|PLT_KFK_AUTHENTICATION/.test(text))
    return of('login', `${place} does not let this log-in in`, 'Check user and password, and that they belong to this mechanism')
  if (/ECONNREFUSED/.test(text)) return of('refused', `Nothing listens at ${place}`, 'Check the port, and that the cluster runs')
  if (/ENOTFOUND|EAI_AGAIN/.test(text))
    return of('name', `The name of ${place} is not known here`, 'Check the name, and which name server this machine asks')
  const certificate = certificateFailure(deepest(e), place, 'destination')
  if (certificate) return certificate
  if (/certificate|self.signed|ERR_TLS|altname|CERT_/i.test(text))
    return of(
      'certificate',
      `The certificate of ${place} is not accepted: ${(deepest(e) as Error).message}`,
      'Choose the authority that signed it, and the name that stands in it',
    )
  if (/TLS|EPROTO|wrong version number/i.test(text))
    return of('tls', `${place} does not speak TLS as expected`, 'Switch TLS on or off to fit its port')
  if (/TIMEOUT|timed out/i.test(text)) return of('silent', `${place} does not answer`, 'A firewall may swallow it, or it is another protocol')
  return of('closed', `The connection to ${place} was closed`, 'It may want TLS or a log-in; look at its log')
}

/**
 * Connections to the nodes of a cluster, one each, made when they are needed. It never retries: a connection that is lost is the end of
 * all of them.
 */
export class StreamCluster {
  private readonly links = new Map<number, Promise<Connection>>()
  private nodes = new Map<number, { host: string; port: number }>()
  private over = false
  /** The cluster tells ids of topics, and takes them for names. */
  private ids = false

  private constructor(
    private readonly access: StreamAccess,
    private readonly first: Connection,
    private readonly lost: (why: Failure) => void,
  ) {}

  /** Connects to the first server that answers; rejects with a FailureError of the last when none does. */
  static async open(access: StreamAccess, lost: (why: Failure) => void): Promise<StreamCluster> {
    let why: Failure | null = null
    for (const server of access.servers) {
      const place = `${server.host}:${server.port}`
      let first: Connection | null = null
      try {
        first = await dial(access, server)
        const cluster: StreamCluster = new StreamCluster(access, first, lost)
        cluster.ids = await cluster.tellsIds()
        await cluster.topics([])
        // One that failed on the way here is no loss: the next server is asked.
        cluster.hear(cluster.first, place)
        if (cluster.first.isConnected()) return cluster
        why = streamFailure(new Error('closed'), place)
      } catch (e) {
        why = streamFailure(e, place)
        void first?.close()
      }
    }
    throw new FailureError(why ?? { code: 'stream.servers', message: 'No server is named', hint: 'Name one at least', where: 'destination' }, 502)
  }

  private hear(link: Connection, place: string): void {
    const end = (e?: unknown) => {
      if (this.over) return
      this.over = true
      this.lost(streamFailure(e ?? new Error('closed'), place))
      this.close()
    }
    link.on('error', end)
    link.on('close', () => end())
  }

  /** Ids of topics are told from version 10 of Metadata on, and taken from version 13 of Fetch on (KIP-516). */
  private async tellsIds(): Promise<boolean> {
    const said = await answered(apiVersionsV3.api.async(this.first, 'embrik', '1'))
    const knows = (key: number, version: number) => said.apiKeys.some((k) => k.apiKey === key && k.minVersion <= version && k.maxVersion >= version)
    return knows(METADATA, 10) && knows(FETCH, 13)
  }

  private async metadata(names: readonly string[]) {
    if (this.ids) return answered(metadataV10.api.async(this.first, [...names], false, false))
    return answered(metadataV9.api.async(this.first, [...names], false, false))
  }

  /** How topics stand, and where their partitions are led. */
  async topics(names: readonly string[]): Promise<Map<string, TopicState>> {
    const said = await this.metadata(names)
    this.nodes = new Map(said.brokers.map((b) => [b.nodeId, { host: b.host, port: b.port }]))
    return new Map(
      said.topics.map((t) => {
        const leaders: number[] = []
        for (const p of t.partitions) leaders[p.partitionIndex] = p.leaderId
        return [t.name ?? '', { error: t.errorCode, leaders, id: 'topicId' in t && t.topicId !== NO_ID ? t.topicId : '' }]
      }),
    )
  }

  /** The connection to a node. */
  node(id: number): Promise<Connection> {
    let link = this.links.get(id)
    if (!link) {
      const at = this.nodes.get(id)
      link = at
        ? dial(this.access, at).then((made) => {
            this.hear(made, `${at.host}:${at.port}`)
            if (this.over) void made.close()
            return made
          })
        : Promise.reject(new FailureError({ code: 'stream.node', message: `Nobody says where node ${id} is`, hint: '', where: 'destination' }, 502))
      this.links.set(id, link)
      link.catch((e: unknown) => {
        if (this.over) return
        this.over = true
        this.lost(streamFailure(e, at ? `${at.host}:${at.port}` : `node ${id}`))
        this.close()
      })
    }
    return link
  }

  /** How many nodes there are. */
  async all(): Promise<{ nodes: number }> {
    await this.topics([])
    return { nodes: this.nodes.size }
  }

  /** Connects to every node at the name by which the cluster knows it; gives these names. */
  async greet(): Promise<string[]> {
    await this.topics([])
    for (const [id, { host, port }] of this.nodes) {
      try {
        await this.node(id)
      } catch (e) {
        const { message, hint, code } = streamFailure(e, `${host}:${port}`)
        throw fail(
          502,
          code,
          `Node ${id} is not reached: ${message}`,
          `${hint}. The cluster names its nodes so (advertised listeners)`,
          'destination',
        )
      }
    }
    return [...this.nodes.values()].map(({ host, port }) => `${host}:${port}`)
  }

  /** A number under which batches are counted. */
  async producer(): Promise<{ id: bigint; epoch: number }> {
    const said = await answered(initProducerIdV4.api.async(this.first, null, 60_000, -1n, -1))
    if (said.errorCode !== 0) {
      const { failure } = meaningOf(said.errorCode, 'the cluster')
      throw new FailureError(failure, 502)
    }
    return { id: said.producerId, epoch: said.producerEpoch }
  }

  /** Sends batches to the node that leads their partitions; one answer a partition. */
  async produce(node: number, acks: -1 | 1, records: SentRecord[], options: BatchOptions): Promise<{ throttleMs: number; batches: BatchAnswer[] }> {
    const said = await answered(produceV9.api.async(await this.node(node), acks, this.access.answerMs, records as ProduceRecord[], options))
    if (typeof said === 'boolean') return { throttleMs: 0, batches: [] }
    const batches = said.responses.flatMap(({ name, partitionResponses }) =>
      partitionResponses.map((p) => ({ topic: name, partition: p.index, error: p.errorCode, detail: p.errorMessage ?? null })),
    )
    return { throttleMs: said.throttleTimeMs, batches }
  }

  /** Offsets of partitions, at a node that leads them: of the next record that will come, or of the oldest that is there. */
  async offsets(node: number, places: readonly Place[], which: 'next' | 'oldest'): Promise<(Place & { error: number; offset: bigint })[]> {
    const timestamp = which === 'next' ? -1n : -2n
    const topics = byTopic(places, ({ partition }) => ({ partitionIndex: partition, currentLeaderEpoch: -1, timestamp })).map(
      ([name, partitions]) => ({ name, partitions }),
    )
    const said = await answered(listOffsetsV7.api.async(await this.node(node), -1, 0, topics))
    return said.topics.flatMap(({ name, partitions }) =>
      partitions.map((p) => ({ topic: name, partition: p.partitionIndex, error: p.errorCode, offset: p.offset })),
    )
  }

  /** Records from some offsets on; waits for them as long as is wanted. */
  async fetch(node: number, places: readonly WantedPlace[], o: { waitMs: number; most: number }): Promise<Fetched[]> {
    // By its id a topic that was made anew is another one, whatever its name.
    const byId = this.ids && places.every((p) => p.id !== '')
    const names = new Map(places.map((p) => [byId ? p.id : p.topic, p.topic]))
    const wanted = places.map((p) => ({ ...p, topic: byId ? p.id : p.topic }))
    const topics = byTopic(wanted, ({ partition, offset }) => ({
      partition,
      currentLeaderEpoch: -1,
      fetchOffset: offset,
      lastFetchedEpoch: -1,
      partitionMaxBytes: o.most,
    })).map(([topicId, partitions]) => ({ topicId, partitions }))
    const { api } = byId ? fetchV13 : fetchV12
    const said = await answered(api.async(await this.node(node), o.waitMs, 1, o.most, 0, 0, -1, topics, [], ''))
    return said.responses.flatMap(({ topicId, partitions }) =>
      partitions.map((p) => ({
        topic: names.get(topicId) ?? topicId,
        partition: p.partitionIndex,
        error: p.errorCode,
        end: p.highWatermark,
        batches: p.records ?? [],
      })),
    )
  }

  /** Resolves when all nodes that were spoken to have answered once more. */
  async heard(): Promise<void> {
    const links = await Promise.all([this.first, ...this.links.values()])
    await Promise.all(links.map((link) => answered(metadataV9.api.async(link, [], false, false))))
  }

  /** An answer did not come: what follows on such a connection means nothing any more. */
  give(): void {
    if (this.over) return
    const [{ host, port }] = this.access.servers as [{ host: string; port: number }]
    this.over = true
    this.lost({
      code: 'stream.silent',
      message: `${host}:${port} did not answer in time`,
      hint: 'Embrik connects anew and sends again',
      where: 'destination',
    })
    this.close()
  }

  close(): void {
    this.over = true
    for (const link of [Promise.resolve(this.first), ...this.links.values()])
      link.then(
        (made) => made.close(),
        () => undefined,
      )
  }
}

function byTopic<P extends Place, T>(places: readonly P[], each: (place: P) => T): [string, T[]][] {
  const out = new Map<string, T[]>()
  for (const place of places) out.set(place.topic, [...(out.get(place.topic) ?? []), each(place)])
  return [...out]
}

async function dial(access: StreamAccess, { host, port }: { host: string; port: number }): Promise<Connection> {
  // A cluster names its nodes by itself: what this machine may not reach stays out of reach.
  const at = await reach.look(host, port)
  const { login, tls } = access
  const sasl: SASLOptions | null = login && { mechanism: login.mechanism, username: login.user, password: login.password }
  const link = new Connection(access.clientId, {
    connectTimeout: CONNECT_MS,
    requestTimeout: access.answerMs,
    ...(tls && { tls, tlsServerName: tls.servername ?? host }),
    ...(sasl && { sasl }),
  })
  // Also between the end of the attempt and whoever hears next.
  link.on('error', () => undefined)
  await link.connect(at.host, at.port)
  return link
}
