import { createServer, type Server, type Socket } from 'node:net'
import { createServer as createTlsServer } from 'node:tls'
import { Connection } from './connection'
import type { Cluster, Permissions } from './exchange'
import { Faults, StreamFaults } from './faults'
import { ReaderGroups } from './groups'
import { Topics, Truth } from './log'
import type { Users } from './logins'
import type { StreamRecord, Unpacking } from './records'

/** One way in: a port a node, with or without TLS and log-ins. */
export interface Listener {
  name: string
  /** Of each node, in the order of their numbers; 0: any that is free. */
  ports: readonly number[]
  tls?: { cert: string; key: string }
  users?: Users
  /** As it names its nodes to clients, where that is not where they are. */
  named?: { host: string; port: number }
}

export interface StreamOptions {
  listeners: readonly Listener[]
  topics: Readonly<Record<string, number>>
  /** By user; who is not named may everything. */
  permissions?: Readonly<Record<string, Permissions>>
  /** Records that each partition, and the log of the truth, keep at most. */
  most?: number
  /** It tells no ids of topics, as older clusters. */
  older?: boolean
  /** How packed records are unpacked, beside gzip. */
  unpacking?: Unpacking
}

const everything: Permissions = { write: [''], read: [''] }
const HOST = '127.0.0.1'

/**
 * A small server of the Kafka protocol, for demo and tests: one memory behind one or more nodes, produced to with counted batches, read
 * by assignment or in groups. It keeps a log of the truth, and goes wrong on demand.
 */
export class Stream {
  readonly faults = new Faults()
  readonly truth: Truth
  readonly topics: Topics
  private readonly groups = new ReaderGroups()
  private readonly servers: { listener: string; node: number; server: Server }[] = []
  private readonly sockets = new Set<Socket>()
  private producers = 0n
  private shutUntil = 0

  private constructor(private readonly o: StreamOptions) {
    const { most = 200_000 } = o
    this.truth = new Truth(most)
    const nodes = o.listeners[0]!.ports.map((_, i) => i + 1)
    this.topics = new Topics(nodes, most)
    for (const [name, partitions] of Object.entries(o.topics)) this.topics.add(name, partitions)
  }

  static async start(o: StreamOptions): Promise<Stream> {
    const stream = new Stream(o)
    for (const listener of o.listeners) for (const [i, port] of listener.ports.entries()) await stream.listen(listener, i + 1, port)
    return stream
  }

  private async listen(listener: Listener, node: number, port: number): Promise<void> {
    const cluster: Cluster = {
      topics: this.topics,
      groups: this.groups,
      truth: this.truth,
      faults: this.faults,
      unpacking: this.o.unpacking ?? {},
      nodes: (name) => this.nodesOf(name),
      permissions: (user) => this.o.permissions?.[user] ?? everything,
      nextProducerId: () => ++this.producers,
      tellsIds: !this.o.older,
    }
    const take = (socket: Socket) => {
      if (this.isShut()) return void socket.destroy()
      this.sockets.add(socket)
      socket.once('close', () => this.sockets.delete(socket))
      socket.setNoDelay(true)
      new Connection(socket, { cluster, node, listener: listener.name, users: listener.users ?? null })
    }
    const server = listener.tls ? createTlsServer({ ...listener.tls, noDelay: true }, take) : createServer(take)
    // A handshake that fails ends its own connection only.
    server.on('tlsClientError', () => undefined)
    await new Promise<void>((done, fail) => {
      server.once('error', fail)
      server.listen(port, HOST, done)
    })
    this.servers.push({ listener: listener.name, node, server })
  }

  private nodesOf(listener: string): { id: number; host: string; port: number }[] {
    const named = this.o.listeners.find((l) => l.name === listener)?.named
    return this.servers.filter((s) => s.listener === listener).map(({ node, server }) => ({ id: node, host: HOST, port: portOf(server), ...named }))
  }

  /** Where a listener's nodes listen: `127.0.0.1:4617`. */
  places(listener: string): string[] {
    return this.servers.filter((s) => s.listener === listener).map(({ server }) => `${HOST}:${portOf(server)}`)
  }

  setFaults(faults: Partial<StreamFaults>): void {
    this.faults.set(StreamFaults.parse(faults))
  }

  /** Appends a record that no producer sent: something beside this server made it. */
  append(topic: string, record: StreamRecord): void {
    const partitions = this.topics.of(topic) ?? []
    // One key stays in one partition.
    const sum = (record.key ?? Buffer.alloc(0)).reduce((n, octet) => n + octet, 0)
    partitions[sum % Math.max(1, partitions.length)]?.keep(
      { producerId: -1n, producerEpoch: -1, sequence: -1, records: [record] },
      'hub',
      this.faults,
      this.truth,
    )
  }

  /** Every partition is led by the next node from now on. */
  moveLeaders(): void {
    this.topics.moveLeaders()
  }

  isShut(): boolean {
    return Date.now() < this.shutUntil
  }

  /** Resets every connection and refuses new ones for so many seconds. */
  cut(seconds = 0): void {
    this.shutUntil = Date.now() + seconds * 1000
    for (const socket of this.sockets) socket.destroy()
  }

  async stop(): Promise<void> {
    this.groups.stop()
    const closing = this.servers.map(({ server }) => new Promise<void>((done) => server.close(() => done())))
    this.cut()
    await Promise.all(closing)
  }
}

const portOf = (server: Server): number => {
  const address = server.address()
  return typeof address === 'object' && address !== null ? address.port : 0
}
