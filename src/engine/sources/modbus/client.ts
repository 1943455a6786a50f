import { connect, type Socket } from 'node:net'
import ModbusRTU from 'modbus-serial'
import { type Failure, FailureError } from '~/contract/failure'
import type { Area } from '~/core/source/modbus-address'
import { modbusExceptions } from '~/core/source/modbus-exception'
import { Status } from '~/core/value/quality'
import { wordsOf } from '../../log'
import { reach } from '../../net/reach'
import { portFailure } from '../../net/steps'

const CONNECT_MS = 10_000

/** What a request came to when it came to nothing. */
export class ModbusProblem extends Error {
  constructor(
    readonly kind: 'exception' | 'silent' | 'garbled' | 'lost',
    readonly code: number,
    message: string,
    readonly hint: string,
    /** The quality that the tags of the request get. */
    readonly status: number,
  ) {
    super(message)
  }

  failure(): Failure {
    return { code: `modbus.${this.kind}${this.kind === 'exception' ? `-${this.code}` : ''}`, message: this.message, hint: this.hint, where: 'source' }
  }
}

/** One connection to a Modbus TCP device or gateway (MODBUS Messaging on TCP/IP V1.0b); several requests may be under way at once. */
export class ModbusClient {
  private readonly pending = new Set<(e: Error) => void>()
  private closed = false

  private constructor(
    private readonly socket: Socket,
    private readonly rtu: ModbusRTU,
    private readonly timeoutMs: number,
  ) {}

  static async open(host: string, port: number, timeoutMs: number, onClose: (failure: Failure) => void): Promise<ModbusClient> {
    const socket = await new Promise<Socket>((done, failed) => {
      const s = connect({ ...reach.to(host, port), noDelay: true, keepAlive: true, keepAliveInitialDelay: 10_000 })
      const timer = setTimeout(() => s.destroy(Object.assign(new Error('timed out'), { code: 'ETIMEDOUT' })), CONNECT_MS)
      s.once('connect', () => {
        clearTimeout(timer)
        s.removeAllListeners('error')
        done(s)
      })
      s.once('error', (e) => {
        clearTimeout(timer)
        failed(new FailureError(portFailure(e, host, port, 'source'), 502))
      })
    })
    const rtu = new ModbusRTU()
    // The library's own error event would end the process if nobody listened.
    rtu.on('error', () => undefined)
    await rtu.connectTCP('', { socket, port })
    rtu.setTimeout(timeoutMs)
    const client = new ModbusClient(socket, rtu, timeoutMs)
    let why = ''
    socket.on('error', (e) => {
      why = wordsOf(e)
    })
    socket.on('close', () => {
      const meant = client.closed
      client.closed = true
      const lost = new ModbusProblem('lost', 0, 'The device closed the connection', why, Status.noCommunication)
      for (const reject of client.pending) reject(lost)
      client.pending.clear()
      if (!meant)
        onClose({
          code: 'source.lost',
          message: `The device closed the connection${why ? `: ${why}` : ''}`,
          hint: 'Embrik tries again by itself',
          where: 'source',
        })
    })
    return client
  }

  private request<T>(unit: number, send: (next: (e: Error | null, r: T) => void) => void): Promise<T> {
    return new Promise<T>((done, failed) => {
      if (this.closed) return failed(new ModbusProblem('lost', 0, 'The connection is closed', '', Status.noCommunication))
      const reject = (e: Error) => failed(e instanceof ModbusProblem ? e : this.problem(e, unit))
      this.pending.add(reject)
      send((e, r) => {
        this.pending.delete(reject)
        if (e) reject(e)
        else done(r)
      })
    })
  }

  private problem(e: Error, unit: number): ModbusProblem {
    const { modbusCode, name, message } = e as Error & { modbusCode?: number }
    if (modbusCode !== undefined) {
      const known = modbusExceptions[modbusCode] ?? { words: 'unknown', hint: 'See the manual of the device', status: Status.deviceFailure }
      return new ModbusProblem('exception', modbusCode, `Exception ${modbusCode}: ${known.words}`, known.hint, known.status)
    }
    if (name === 'TransactionTimedOutError' || /timed out/i.test(message))
      return new ModbusProblem(
        'silent',
        0,
        `Unit ${unit} does not answer within ${this.timeoutMs} ms`,
        'Check the unit id, and whether the device is on; a slow one needs a longer time',
        Status.timeout,
      )
    return new ModbusProblem(
      'garbled',
      0,
      `Unit ${unit} answers with something else than was asked: ${message}`,
      'A short or foreign frame: look at the gateway, or ask for fewer registers at once',
      Status.communication,
    )
  }

  /** Function codes 1 to 4; bits come as 0 and 1. */
  async read(unit: number, area: Area, offset: number, count: number): Promise<number[]> {
    const { rtu } = this
    switch (area) {
      case 'coil':
        return bits(await this.request(unit, (next) => rtu.writeFC1(unit, offset, count, next as never)), count)
      case 'discrete':
        return bits(await this.request(unit, (next) => rtu.writeFC2(unit, offset, count, next as never)), count)
      case 'holding':
        return (await this.request<{ data: number[] }>(unit, (next) => rtu.writeFC3(unit, offset, count, next as never))).data
      case 'input':
        return (await this.request<{ data: number[] }>(unit, (next) => rtu.writeFC4(unit, offset, count, next as never))).data
    }
  }

  /** Function code 5, or 15 with `multiple`. */
  async writeCoil(unit: number, offset: number, on: boolean, multiple: boolean): Promise<void> {
    await this.request(unit, (next) =>
      multiple ? this.rtu.writeFC15(unit, offset, [on], next as never) : this.rtu.writeFC5(unit, offset, on, next as never),
    )
  }

  /** Function code 6 for a single register, else (or with `multiple`) 16. */
  async writeRegisters(unit: number, offset: number, words: number[], multiple: boolean): Promise<void> {
    await this.request(unit, (next) =>
      words.length === 1 && !multiple
        ? this.rtu.writeFC6(unit, offset, words[0]!, next as never)
        : this.rtu.writeFC16(unit, offset, words, next as never),
    )
  }

  close(): void {
    this.closed = true
    this.socket.destroy()
  }
}

const bits = (answer: unknown, count: number) => (answer as { data: boolean[] }).data.slice(0, count).map(Number)
