import { createServer, type Server, type Socket } from 'node:net'
import type { Area, Unit } from './units'

/** What can go wrong at the field gateway. */
export interface FieldFaults {
  /** Every answer comes so much later, ms. */
  slowMs: number
  /** This unit id does not answer; 0: all do. */
  silentUnit: number
  /** Answers end in the middle. */
  shortFrames: boolean
  /** Every request is answered with this exception code; 0: none. */
  exception: number
}

export const noFieldFaults: FieldFaults = { slowMs: 0, silentUnit: 0, shortFrames: false, exception: 0 }

const areas: Record<number, Area> = { 1: 'coil', 2: 'discrete', 3: 'holding', 4: 'input' }

/** A Modbus TCP server of several unit ids (MODBUS Messaging on TCP/IP V1.0b; Application Protocol V1.1b3 6). */
export class FieldServer {
  private readonly sockets = new Set<Socket>()
  faults: FieldFaults = { ...noFieldFaults }
  requests = 0

  private constructor(
    private readonly server: Server,
    private readonly units: ReadonlyMap<number, Unit>,
  ) {}

  static async start(port: number, units: ReadonlyMap<number, Unit>): Promise<FieldServer> {
    const server = createServer({ noDelay: true })
    const field = new FieldServer(server, units)
    server.on('connection', (socket) => field.serve(socket))
    await new Promise<void>((done, failed) => {
      server.once('error', failed)
      server.listen(port, '127.0.0.1', done)
    })
    return field
  }

  private serve(socket: Socket): void {
    this.sockets.add(socket)
    socket.on('close', () => this.sockets.delete(socket))
    socket.on('error', () => socket.destroy())
    let rest = Buffer.alloc(0)
    socket.on('data', (chunk) => {
      rest = Buffer.concat([rest, chunk])
      while (rest.length >= 8) {
        const length = rest.readUInt16BE(4)
        if (rest.readUInt16BE(2) !== 0 || length < 2 || length > 254) {
          socket.destroy()
          return
        }
        if (rest.length < 6 + length) return
        const frame = rest.subarray(0, 6 + length)
        rest = rest.subarray(6 + length)
        this.answer(socket, frame)
      }
    })
  }

  private answer(socket: Socket, frame: Buffer): void {
    this.requests++
    const id = frame[6]!
    const unit = this.units.get(id)
    const faults = this.faults
    const delay = unit ? unit.delay() : 0
    if (delay === null || (faults.silentUnit !== 0 && faults.silentUnit === id)) return
    setTimeout(() => {
      // A gateway says that nobody is there (exception 11); a device on its own would not hear it at all.
      const body = faults.exception ? exception(frame[7]!, faults.exception) : unit ? reply(unit, frame.subarray(7)) : exception(frame[7]!, 11)
      const head = Buffer.alloc(7)
      frame.copy(head, 0, 0, 4)
      head.writeUInt16BE(body.length + 1, 4)
      head[6] = id
      const whole = Buffer.concat([head, body])
      if (faults.shortFrames) {
        // Says honestly how short it is: the length fits the frame, but not what was asked.
        const short = Buffer.from(whole.subarray(0, Math.max(9, whole.length - 2)))
        short.writeUInt16BE(short.length - 6, 4)
        socket.write(short)
      } else socket.write(whole)
    }, delay + faults.slowMs)
  }

  async stop(): Promise<void> {
    for (const s of this.sockets) s.destroy()
    await new Promise<void>((done) => this.server.close(() => done()))
  }
}

const exception = (code: number, reason: number) => Buffer.from([code | 0x80, reason])

function reply(unit: Unit, pdu: Buffer): Buffer {
  const code = pdu[0]!
  if (pdu.length < 5) return exception(code, 3)
  const offset = pdu.readUInt16BE(1)
  const second = pdu.readUInt16BE(3)
  const area = areas[code]
  if (area) {
    const bits = code <= 2
    if (second < 1 || second > (bits ? 2000 : 125)) return exception(code, 3)
    const values: number[] = []
    for (let i = 0; i < second; i++) {
      const value = unit.read(area, offset + i)
      if (value === undefined) return exception(code, 2)
      values.push(value)
    }
    if (!bits) {
      const out = Buffer.alloc(2 + values.length * 2)
      out[0] = code
      out[1] = values.length * 2
      values.forEach((v, i) => {
        out.writeUInt16BE(v, 2 + i * 2)
      })
      return out
    }
    const out = Buffer.alloc(2 + Math.ceil(values.length / 8))
    out[0] = code
    out[1] = out.length - 2
    values.forEach((v, i) => {
      out[2 + (i >> 3)]! |= (v & 1) << (i & 7)
    })
    return out
  }
  const write = (where: Area, at: number, value: number) => (unit.read(where, at) === undefined ? 2 : unit.write(where, at, value) ? 0 : 3)
  let reason = 1
  if (code === 5) reason = second === 0 || second === 0xff00 ? write('coil', offset, second === 0 ? 0 : 1) : 3
  else if (code === 6) reason = write('holding', offset, second)
  else if (code === 15 || code === 16) {
    const bytes = pdu[5] ?? 0
    if (second < 1 || pdu.length !== 6 + bytes || bytes !== (code === 15 ? Math.ceil(second / 8) : second * 2)) reason = 3
    else {
      reason = 0
      for (let i = 0; i < second && reason === 0; i++)
        reason =
          code === 15 ? write('coil', offset + i, (pdu[6 + (i >> 3)]! >> (i & 7)) & 1) : write('holding', offset + i, pdu.readUInt16BE(6 + i * 2))
    }
  }
  return reason === 0 ? Buffer.from(pdu.subarray(0, 5)) : exception(code, reason)
}
