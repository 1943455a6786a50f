import { Hub, type Said } from './hub'
import type { Heard } from './line'
import { together, type Want } from './wants'

/** A page says that it is still there, ms. */
const STILL_HERE_MS = 20_000

/** Ties this page to the line that all pages of the browser share; where a browser shares nothing, to one of its own. */
export class Link {
  private wanted: Required<Want> = together([])
  private readonly send: (said: Said) => void

  constructor(hear: (h: Heard) => void) {
    this.send = Link.sender(hear)
    const look = () => this.say()
    document.addEventListener('visibilitychange', look)
    window.addEventListener('pageshow', look)
    window.addEventListener('pagehide', () => this.send({ bye: true }))
    setInterval(look, STILL_HERE_MS)
  }

  private static sender(hear: (h: Heard) => void): (said: Said) => void {
    if (typeof SharedWorker === 'undefined') {
      const hub = new Hub()
      const key = {}
      return (said) => hub.said(key, said, hear)
    }
    const worker = new SharedWorker(new URL('./hub-worker.ts', import.meta.url), { type: 'module', name: 'embrik' })
    worker.port.onmessage = (e: MessageEvent<Heard>) => hear(e.data)
    return (said) => worker.port.postMessage(said)
  }

  want(w: Required<Want>): void {
    this.wanted = w
    this.say()
  }

  /** Nobody sees a hidden page: it watches nothing until somebody does. */
  private say(): void {
    this.send({ want: document.visibilityState === 'hidden' ? {} : this.wanted })
  }
}
