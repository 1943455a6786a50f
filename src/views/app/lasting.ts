import { useEffect, useRef, useState } from 'react'
import { FailureError } from '~/contract/failure'
import type { Problem } from '~/ui/Notes'
import { failureIn } from './api'

export interface LastingTimes {
  /** So long it may be quiet before what it brought counts as old, ms. */
  silentMs: number
  /** So long before it is asked for anew: the line may be half-open, ms. */
  lostMs: number
  /** First and longest wait before it is asked for anew, ms. */
  againMs: number
  againMostMs: number
}
const usual: LastingTimes = { silentMs: 4500, lostMs: 12_000, againMs: 1000, againMostMs: 8000 }

/** How a stream that is to last stands: `old` while nothing is heard or it is asked for anew. */
export interface LastingState {
  state: 'asking' | 'live' | 'old' | 'refused'
  problem: Problem | null
}

/**
 * Asks for a stream again and again: when it ends, breaks off or falls silent. What cannot be answered (no permission, wrong
 * question) is not asked again. `open` calls `alive` whenever octets come, and ends with the stream.
 */
export class Lasting {
  private stopped = new AbortController()
  private timer: ReturnType<typeof setTimeout> | undefined
  private heardAt = 0
  private tries = 0

  constructor(
    private readonly open: (signal: AbortSignal, alive: () => void) => Promise<void>,
    private readonly tell: (state: LastingState) => void,
    private readonly times: LastingTimes = usual,
  ) {}

  start(): void {
    this.stopped = new AbortController()
    void this.run(this.stopped.signal)
  }

  /** Ends it; nothing is told any more. */
  stop(): void {
    this.stopped.abort()
    clearTimeout(this.timer)
  }

  private async run(stop: AbortSignal): Promise<void> {
    const attempt = new AbortController()
    let problem: Problem | null = null
    const begunAt = performance.now()
    this.heardAt = begunAt
    const watch = setInterval(() => {
      const quiet = performance.now() - this.heardAt
      if (quiet > this.times.lostMs) attempt.abort()
      else if (quiet > this.times.silentMs) this.tell({ state: 'old', problem: null })
    }, this.times.silentMs / 4)
    try {
      await this.open(AbortSignal.any([stop, attempt.signal]), () => {
        if (stop.aborted) return
        this.heardAt = performance.now()
        this.tell({ state: 'live', problem: null })
      })
    } catch (e) {
      if (!stop.aborted && !attempt.signal.aborted) {
        problem = failureIn(e)
        if (isFinal(e)) {
          clearInterval(watch)
          return this.tell({ state: 'refused', problem })
        }
      }
    }
    clearInterval(watch)
    if (stop.aborted) return
    this.tell({ state: 'old', problem })
    // One that ends as soon as it has begun is asked for less and less often.
    if (performance.now() - begunAt > this.times.againMostMs) this.tries = 0
    const wait = Math.min(this.times.againMostMs, this.times.againMs * 2 ** this.tries++)
    this.timer = setTimeout(() => void this.run(stop), wait)
  }
}

const isFinal = (e: unknown) => e instanceof FailureError && e.status < 500 && e.status !== 429 && e.status !== 408

/** What is typed or ticked changes a few times a second: only the last is asked for, ms. */
const SETTLES_MS = 300

/**
 * A stream that lasts while the page shows: a page that nobody sees asks for nothing. `key` says what is asked for; null: nothing.
 * A stream is begun anew when it changes.
 */
export function useLasting(key: string | null, open: (signal: AbortSignal, alive: () => void) => Promise<void>): LastingState {
  const [state, setState] = useState<LastingState>({ state: 'asking', problem: null })
  const latest = useRef(open)
  latest.current = open
  useEffect(() => {
    setState({ state: 'asking', problem: null })
    if (key === null) return
    const lasting = new Lasting((signal, alive) => latest.current(signal, alive), setState)
    let timer = setTimeout(() => !document.hidden && lasting.start(), SETTLES_MS)
    const seen = () => {
      clearTimeout(timer)
      lasting.stop()
      if (!document.hidden) timer = setTimeout(() => lasting.start(), SETTLES_MS)
    }
    document.addEventListener('visibilitychange', seen)
    return () => {
      document.removeEventListener('visibilitychange', seen)
      clearTimeout(timer)
      lasting.stop()
    }
  }, [key])
  return state
}
