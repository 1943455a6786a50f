import { type Block, splitBlock } from '~/core/source/modbus-plan'
import { takeValue } from '~/core/source/modbus-value'
import { rounded } from '~/core/source/payload'
import { conform } from '~/core/value/datatype'
import { Status } from '~/core/value/quality'
import type { Batch, TagNote } from '../../live/table'
import type { SourceSink, WantedTag } from '../driver'
import type { ModbusClient } from './client'
import { ModbusProblem } from './client'

/** After so many silent requests in a row all tags of a unit are said to have no answer, not only those asked for. */
const SILENT_UNIT = 2

interface Due {
  block: Block<WantedTag>
  /** By the monotonic clock, ms. */
  at: number
}

/**
 * Asks one unit for its blocks, each at its own rate and one at a time: a unit that is slow or silent holds up nobody but itself,
 * and is asked less and less often until it answers again.
 */
export class UnitPoller {
  private queue: Due[]
  private timer: NodeJS.Timeout | null = null
  private over = false
  /** Silent requests in a row. */
  silent = 0

  constructor(
    private readonly client: ModbusClient,
    blocks: readonly Block<WantedTag>[],
    private readonly retryMs: number,
    private readonly sink: SourceSink,
    private readonly onOutcome: (fine: boolean, garbled: boolean) => void,
  ) {
    const now = performance.now()
    this.queue = blocks.map((block) => ({ block, at: now }))
    this.next()
  }

  private next(): void {
    if (this.over || this.queue.length === 0) return
    const due = this.queue.reduce((a, b) => (b.at < a.at ? b : a))
    const pause = this.silent > 0 ? Math.min(this.retryMs * 2 ** (this.silent - 1), this.retryMs * 8) : 0
    const wait = Math.max(due.at - performance.now(), pause, 0)
    this.timer = setTimeout(() => void this.ask(due), wait)
  }

  private async ask(due: Due): Promise<void> {
    const { block } = due
    const began = performance.now()
    try {
      const words = await this.client.read(block.unit, block.area, block.offset, block.count)
      if (this.over) return
      this.silent = 0
      this.sink.roundTrip(performance.now() - began)
      this.onOutcome(true, false)
      this.deliver(block, words)
    } catch (e) {
      if (this.over || !(e instanceof ModbusProblem) || e.kind === 'lost') return
      this.onOutcome(false, e.kind === 'garbled')
      if (e.kind === 'silent') this.silent++
      else this.silent = 0
      // One address that does not exist must not take its neighbours along.
      if (e.kind === 'exception' && (e.code === 2 || e.code === 3) && block.points.length > 1) {
        this.queue = this.queue.flatMap((q) => (q === due ? splitBlock(block).map((b) => ({ block: b, at: performance.now() })) : [q]))
        this.next()
        return
      }
      const whole = e.kind === 'silent' && this.silent >= SILENT_UNIT
      this.fail(whole ? this.queue.map((q) => q.block) : [block], e)
    }
    // From when it was due, not from now, so that the rate holds; what was missed is left out.
    const now = performance.now()
    due.at += block.rateMs
    if (due.at < now) due.at = now + (block.rateMs - ((now - due.at) % block.rateMs))
    this.next()
  }

  private deliver(block: Block<WantedTag>, words: number[]): void {
    const now = Date.now()
    const batch: Batch = { handles: [], values: [], statuses: [], times: [] }
    for (const p of block.points) {
      const taken = takeValue(words, block.offset, p.address)
      const value = conform(taken.value, p.item.dataType)
      const mismatch = value === null && taken.value !== null
      const cut = typeof taken.value === 'bigint' && typeof value === 'number' && BigInt(value) !== taken.value ? rounded(taken.value) : null
      batch.handles.push(p.item.handle)
      batch.values.push(value)
      batch.statuses.push(mismatch ? Status.typeMismatch : cut ? Status.subNormal : taken.status)
      batch.times.push(now)
      const text = mismatch ? `${String(taken.value)} is no ${p.item.dataType}` : (cut ?? taken.note)
      if (text) (batch.notes ??= new Map()).set(p.item.handle, { at: now, text })
    }
    this.sink.values(batch)
  }

  private fail(blocks: readonly Block<WantedTag>[], problem: ModbusProblem): void {
    const now = Date.now()
    const note: TagNote = {
      at: now,
      text: `${problem.message}. ${problem.hint}`,
      ...(problem.kind === 'exception' && { code: `exception ${problem.code}` }),
    }
    const handles = blocks.flatMap((b) => b.points.map((p) => p.item.handle))
    this.sink.mark(handles, problem.status, note)
  }

  stop(): void {
    this.over = true
    if (this.timer) clearTimeout(this.timer)
  }
}
