import type { ServerResponse } from 'node:http'
import type { LiveFrames, LiveValue } from '~/contract/live'
import { toWire } from '~/core/value/wire'
import type { Engine } from '../engine'

const TICK_MS = 100
const SLOW_TICKS = 5
/** A frame of more characters than this goes out once a second, to all who look in the same tenth of it, so that it is written once for them. */
const LARGE = 65_536
const LARGE_EVERY_MS = 1000
const BEAT_TICKS = 20
/** Octets a slow reader may have waiting before ticks are left out for it. */
const BEHIND = 1 << 20

/** Frames as text, each written once for all who look: what is shown is reckoned once, too. */
const texts = new WeakMap<object, string>()
function textOf(frame: object): string {
  let text = texts.get(frame)
  if (text === undefined) texts.set(frame, (text = JSON.stringify(frame)))
  return text
}

/** `1-3,7` is `[1, 2, 3, 7]`; at most 5000 handles. */
export function parseHandles(text: string): number[] {
  const out: number[] = []
  for (const part of text.split(',')) {
    const m = /^(\d{1,9})(?:-(\d{1,9}))?$/.exec(part.trim())
    if (!m) continue
    const from = Number(m[1])
    const to = Number(m[2] ?? m[1])
    for (let h = from; h <= to && out.length < 5000; h++) out.push(h)
  }
  return out
}

/** Sends one browser what it watches, as server-sent events: all of it first, then what changed: values ten times a second at most, counts and states twice. */
export class LiveStream {
  private readonly timer: NodeJS.Timeout
  private readonly sent = new Map<string, string>()
  /** The second in which a large frame went out. */
  private readonly largeAt = new Map<string, number>()
  private version = -1
  private ticks = 0

  constructor(
    private readonly engine: Engine,
    private readonly res: ServerResponse,
    private readonly handles: readonly number[],
    private readonly parts: ReadonlySet<string>,
    private readonly messagesOf: readonly string[],
    private readonly sparks: boolean,
  ) {
    res.writeHead(200, { 'content-type': 'text/event-stream', 'cache-control': 'no-store', 'x-accel-buffering': 'no' })
    res.write('retry: 1000\n\n')
    this.emit('hello', { at: Date.now(), engine: 'up' })
    this.tick()
    this.timer = setInterval(() => this.tick(), TICK_MS)
    res.on('close', () => clearInterval(this.timer))
  }

  private emit<K extends keyof LiveFrames>(name: K, frame: LiveFrames[K]): void {
    this.res.write(`event: ${name}\ndata: ${JSON.stringify(frame)}\n\n`)
  }

  private emitChanged<K extends keyof LiveFrames>(name: K, frame: LiveFrames[K], key: string = name): void {
    const second = Math.floor(this.engine.clock.mono() / LARGE_EVERY_MS)
    if (this.largeAt.get(key) === second) return
    const text = textOf(frame as object)
    if (this.sent.get(key) === text) return
    this.sent.set(key, text)
    if (text.length > LARGE) this.largeAt.set(key, second)
    else this.largeAt.delete(key)
    this.res.write(`event: ${name}\ndata: ${text}\n\n`)
  }

  private tick(): void {
    if (this.res.writableLength > BEHIND) return
    const { engine } = this
    const slow = this.ticks % SLOW_TICKS === 0
    if (this.handles.length > 0) this.values()
    if (this.sparks && this.ticks % 50 === 0) this.emit('sparks', Object.fromEntries(this.handles.map((h) => [h, engine.table.spark(h)])))
    for (const id of this.messagesOf) {
      const message = engine.lastMessage(id)
      if (message) this.emitChanged('message', message, `message ${id}`)
    }
    if (slow) {
      if (this.parts.has('ledger')) this.emitChanged('ledger', engine.lines())
      if (this.parts.has('course')) this.emitChanged('course', engine.course())
      if (this.parts.has('sources')) this.emitChanged('sources', engine.sourceConditions())
      if (this.parts.has('publications')) this.emitChanged('publications', engine.publicationConditions())
      if (this.parts.has('destinations')) this.emitChanged('destinations', engine.destinationConditions())
    }
    // Both ends notice a dead line, and pages know what time it is here.
    if (this.ticks % BEAT_TICKS === BEAT_TICKS - 1) this.emit('beat', { at: Date.now() })
    this.ticks++
  }

  private values(): void {
    const { table } = this.engine
    const changed: LiveValue[] = []
    for (const h of this.handles) {
      if (h >= table.status.length || (this.version >= 0 && table.version[h]! <= this.version)) continue
      changed.push([h, toWire(table.value[h] ?? null), table.status[h]!, table.time[h]!, table.seen[h]!])
    }
    this.version = table.current
    if (changed.length > 0) this.emit('values', changed)
  }
}
