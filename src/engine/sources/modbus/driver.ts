import { setTimeout as pause } from 'node:timers/promises'
import { FailureError, fail } from '~/contract/failure'
import type { RegisterLook, RegisterQuery } from '~/contract/sources/modbus'
import { type ModbusAddress, parseModbusAddress } from '~/core/source/modbus-address'
import { planReads } from '~/core/source/modbus-plan'
import { putValue, takeValue } from '~/core/source/modbus-value'
import type { Scalar } from '~/core/value/deadband'
import { Status } from '~/core/value/quality'
import { failureOf } from '../../failure'
import { reachSteps, runSteps } from '../../net/steps'
import type { SourceConnection, SourceDriver, SourceSink, SourceTarget, WantedTag } from '../driver'
import { ModbusClient, ModbusProblem } from './client'
import { UnitPoller } from './poller'

type Target = SourceTarget<'modbus'>

/** So many garbled answers in a row, or so long no unit with an answer: the connection is begun anew. */
const GARBLED_MAX = 3
const SILENT_MS = 30_000

const ignore = () => undefined

/** Modbus TCP client: function codes 1 to 6, 15 and 16 (MODBUS Application Protocol V1.1b3). */
export const modbusDriver: SourceDriver<'modbus'> = {
  async *check(target) {
    const { host, port, probeUnit, timeoutMs } = target.settings
    let client: ModbusClient | null = null
    try {
      yield* runSteps(
        [
          ...reachSteps(host, port, 'source'),
          {
            key: 'unit',
            label: `Unit ${probeUnit}`,
            run: async () => {
              client = await ModbusClient.open(host, port, timeoutMs, ignore)
              const found = await probe(client, probeUnit)
              return `unit ${probeUnit} answers${found}`
            },
            explain: (e) => (e instanceof ModbusProblem ? e.failure() : failureOf(e, 'source')),
          },
        ],
        (e) => failureOf(e, 'source'),
      )
    } finally {
      ;(client as ModbusClient | null)?.close()
    }
  },

  async browse(target) {
    throw fail(
      409,
      'modbus.browse',
      `${target.name} cannot be browsed: Modbus has no list of what there is`,
      'Look at its registers on the register bench, or take the list from the manual',
      'source',
    )
  },

  async open(target, _ctx, sink) {
    let connection: ModbusConnection | null = null
    const { host, port, timeoutMs } = target.settings
    const client = await ModbusClient.open(host, port, timeoutMs, (failure) => (connection ? connection.lost(failure) : sink.down(failure)))
    connection = new ModbusConnection(client, target, sink)
    return connection
  },

  async *registers(target, query, stop) {
    yield* lookAt(target, query, stop)
  },
}

/** Asks for anything at all: an exception about the address is an answer too, one from a gateway is not. */
async function probe(client: ModbusClient, unit: number): Promise<string> {
  for (const area of ['holding', 'input', 'coil', 'discrete'] as const) {
    try {
      await client.read(unit, area, 0, 1)
      return ` (read ${area}@0)`
    } catch (e) {
      if (!(e instanceof ModbusProblem) || e.kind !== 'exception' || e.code === 10 || e.code === 11) throw e
    }
  }
  return ', but has nothing at the very first places'
}

interface Stretch {
  offset: number
  count: number
}

async function* lookAt(target: Target, query: RegisterQuery, stop: AbortSignal): AsyncGenerator<RegisterLook> {
  const { host, port, timeoutMs, maxRegisters } = target.settings
  let client: ModbusClient | null = null
  // What is known to answer in one piece: a device refuses a whole request for one register that it does not have.
  let stretches: Stretch[] = []
  for (let at = 0; at < query.count; at += maxRegisters) stretches.push({ offset: at, count: Math.min(maxRegisters, query.count - at) })
  try {
    while (!stop.aborted) {
      const began = performance.now()
      try {
        client ??= await ModbusClient.open(host, port, timeoutMs, () => {
          client = null
        })
        const words: (number | null)[] = new Array(query.count).fill(null)
        let refusal: ModbusProblem | null = null
        let ms = 0
        const known: Stretch[] = []
        for (const todo = [...stretches]; todo.length > 0; ) {
          const s = todo.shift()!
          const asked = performance.now()
          try {
            const found = await client.read(query.unit, query.area, query.offset + s.offset, s.count)
            found.forEach((w, i) => {
              words[s.offset + i] = w
            })
            ms = Math.max(ms, performance.now() - asked)
            known.push(s)
          } catch (e) {
            if (!(e instanceof ModbusProblem) || e.kind !== 'exception' || (e.code !== 2 && e.code !== 3)) throw e
            refusal = e
            if (s.count === 1) continue
            const half = s.count >> 1
            todo.unshift({ offset: s.offset, count: half }, { offset: s.offset + half, count: s.count - half })
          }
        }
        if (known.length === 0 && refusal) throw refusal
        stretches = known
        yield { at: Date.now(), ms, words }
      } catch (e) {
        const f = e instanceof ModbusProblem ? e.failure() : failureOf(e, 'source')
        yield { at: Date.now(), ms: performance.now() - began, words: [], problem: f.message, hint: f.hint }
      }
      await pause(1000, undefined, { signal: stop }).catch(ignore)
    }
  } finally {
    client?.close()
  }
}

class ModbusConnection implements SourceConnection {
  readonly summary: string
  private pollers: UnitPoller[] = []
  private over = false
  private garbled = 0
  private lastAnswer = Date.now()

  constructor(
    private readonly client: ModbusClient,
    private readonly target: Target,
    private readonly sink: SourceSink,
  ) {
    this.summary = 'Modbus TCP, as ever without security'
  }

  lost(failure: ReturnType<ModbusProblem['failure']>): void {
    if (this.over) return
    this.over = true
    this.sink.down(failure)
  }

  async setTags(tags: readonly WantedTag[]): Promise<void> {
    for (const p of this.pollers) p.stop()
    const { settings } = this.target
    const points = []
    const wrong: { tag: WantedTag; problem: string }[] = []
    for (const item of tags) {
      const address = parseModbusAddress(item.address)
      if ('problem' in address) wrong.push({ tag: item, problem: address.problem })
      else points.push({ address, rateMs: item.sampleMs ?? settings.rateMs, item })
    }
    if (wrong.length > 0) {
      const now = Date.now()
      this.sink.values({
        handles: wrong.map((w) => w.tag.handle),
        values: wrong.map(() => null),
        statuses: wrong.map(() => Status.nodeInvalid),
        times: wrong.map(() => now),
        notes: new Map(wrong.map((w) => [w.tag.handle, { at: now, text: w.problem }])),
      })
    }
    const units = new Map<number, ReturnType<typeof planReads<WantedTag>>>()
    for (const b of planReads(points, settings)) {
      const list = units.get(b.unit)
      if (list) list.push(b)
      else units.set(b.unit, [b])
    }
    this.lastAnswer = Date.now()
    this.pollers = [...units.values()].map(
      (blocks) => new UnitPoller(this.client, blocks, settings.retryMs, this.sink, (fine, garbled) => this.outcome(fine, garbled)),
    )
  }

  private outcome(fine: boolean, garbled: boolean): void {
    if (fine) {
      this.garbled = 0
      this.lastAnswer = Date.now()
      return
    }
    this.garbled = garbled ? this.garbled + 1 : this.garbled
    const where = 'source' as const
    if (this.garbled >= GARBLED_MAX)
      this.lost({
        code: 'modbus.garbled',
        message: 'The device keeps answering with damaged frames',
        hint: 'Embrik begins a new connection; look at the gateway if this stays',
        where,
      })
    else if (this.pollers.every((p) => p.silent > 0) && Date.now() - this.lastAnswer > SILENT_MS)
      this.lost({
        code: 'modbus.silent',
        message: `No unit has answered for ${SILENT_MS / 1000} s`,
        hint: 'Embrik begins a new connection; check the device and its unit ids',
        where,
      })
  }

  async write(tag: WantedTag, value: Scalar): Promise<Scalar> {
    const parsed = parseModbusAddress(tag.address)
    if ('problem' in parsed) throw fail(422, 'tag.address', parsed.problem, 'Correct the address of the tag', 'tag')
    try {
      return await this.writeTo(parsed, value)
    } catch (e) {
      if (e instanceof ModbusProblem) throw new FailureError(e.failure(), 502)
      throw e
    }
  }

  private async writeTo(a: ModbusAddress, value: Scalar): Promise<Scalar> {
    if (a.area !== 'coil' && a.area !== 'holding')
      throw fail(409, 'modbus.read-only', 'Discrete inputs and input registers cannot be written', 'Only coils and holding registers can', 'tag')
    const words = putValue(value, a)
    if ('problem' in words) throw fail(422, 'tag.value', words.problem, 'Nothing was written', 'tag')
    const multiple = this.target.settings.writes === 'multiple'
    if (a.area === 'coil') await this.client.writeCoil(a.unit, a.offset, words[0] === 1, multiple)
    else if (a.type === 'bit') {
      // The other bits of the register stay as they are now; nobody else may write them in between, which Modbus cannot make sure.
      const [now] = await this.client.read(a.unit, a.area, a.offset, 1)
      const next = words[0] === 1 ? now! | (1 << a.bit) : now! & ~(1 << a.bit)
      await this.client.writeRegisters(a.unit, a.offset, [next & 0xffff], multiple)
    } else await this.client.writeRegisters(a.unit, a.offset, words, multiple)
    return takeValue(await this.client.read(a.unit, a.area, a.offset, a.words), a.offset, a).value
  }

  async close(): Promise<void> {
    this.over = true
    for (const p of this.pollers) p.stop()
    this.client.close()
  }
}
