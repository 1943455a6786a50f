import { createSocket, type Socket } from 'node:dgram'
import type { Fate } from '../mishaps'
import { Faults, type RelayFaults } from './faults'

export interface RelayOptions {
  /** Of this machine, where it hears. */
  port: number
  /** To whom it hands on. */
  group: string
  groupPort: number
  /** Datagrams that it remembers at most, the newest. */
  most?: number
}

/** One datagram that came: the ground truth. */
export interface Passed {
  n: number
  /** Epoch ms. */
  at: number
  /** As it came. */
  octets: Buffer
  fate: Fate
  /** It went after the one that came next. */
  reordered: boolean
}

const LOCAL = '127.0.0.1'

/** Hands on what comes to its port to a group on this machine. */
export class Relay {
  readonly faults = new Faults()
  readonly passed: Passed[] = []
  private count = 0
  private shut: NodeJS.Timeout | null = null
  private in: Socket | null = null
  private held: Buffer[] = []
  port = 0

  private constructor(
    private readonly out: Socket,
    private readonly o: RelayOptions,
  ) {}

  static async start(o: RelayOptions): Promise<Relay> {
    const out = createSocket('udp4')
    await new Promise<void>((done, failed) => {
      out.once('error', failed)
      out.bind({ address: LOCAL, port: 0 }, done)
    })
    out.setMulticastInterface(LOCAL)
    const relay = new Relay(out, o)
    await relay.open(o.port)
    return relay
  }

  private async open(port: number): Promise<void> {
    const socket = createSocket({ type: 'udp4', recvBufferSize: 4 << 20 })
    await new Promise<void>((done, failed) => {
      socket.once('error', failed)
      socket.bind({ address: LOCAL, port }, done)
    })
    this.port = socket.address().port
    socket.on('error', () => undefined)
    socket.on('message', (octets) => this.came(octets))
    this.in = socket
  }

  get kept(): number {
    return this.count
  }

  setFaults(faults: RelayFaults): void {
    this.faults.set(faults)
  }

  isShut(): boolean {
    return this.shut !== null
  }

  /** Nobody listens on its port for so long. */
  cut(seconds: number): void {
    if (this.shut) clearTimeout(this.shut)
    this.in?.close()
    this.in = null
    this.shut = setTimeout(() => {
      this.shut = null
      void this.open(this.port).catch(() => this.cut(1))
    }, seconds * 1000)
  }

  private came(octets: Buffer): void {
    const { settings } = this.faults
    if (settings.deaf) return
    const fate = this.faults.fate()
    const reordered = this.faults.happens(settings.reorder)
    this.passed.push({ n: ++this.count, at: Date.now(), octets, fate, reordered })
    if (this.passed.length > (this.o.most ?? Number.POSITIVE_INFINITY)) this.passed.splice(0, Math.ceil(this.passed.length / 10))
    const going = fate === 'dropped' ? [] : fate === 'doubled' ? [octets, octets] : [fate === 'altered' ? this.faults.altered(octets) : octets]
    const before = this.held
    this.held = reordered ? going : []
    for (const one of [...(reordered ? [] : going), ...before]) this.handOn(one)
  }

  private handOn(octets: Buffer): void {
    const { slowMs } = this.faults.settings
    const send = () => this.out.send(octets, this.o.groupPort, this.o.group, () => undefined)
    if (slowMs > 0) setTimeout(send, slowMs)
    else send()
  }

  async stop(): Promise<void> {
    if (this.shut) clearTimeout(this.shut)
    this.in?.close()
    this.out.close()
  }
}
