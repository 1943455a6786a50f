import { type IncomingHttpHeaders, Agent as PlainAgent, request as plainRequest } from 'node:http'
import { Agent as SecureAgent, request as secureRequest } from 'node:https'
import type { SecureContextOptions } from 'node:tls'
import type { PeerTime } from '~/core/proof/peer-time'
import type { Clock } from '../clock/clock'
import { toldBy } from './date-header'
import { reach } from './reach'

/** How one place on the web is reached. */
export interface WebAccess {
  /** What is trusted, and by which certificate we are known; null: as this machine trusts. */
  tls: SecureContextOptions | null
  /** An answer takes so long at most, ms. */
  answerMs: number
  /** Requests at once. */
  parallel: number
}

export interface WebRequest {
  method: string
  url: URL
  headers: Readonly<Record<string, string>>
  body: Uint8Array | null
  /** Octets of the answer that are read at most; what is longer is cut. */
  most: number
}

export interface WebAnswer {
  status: number
  headers: IncomingHttpHeaders
  body: Buffer
  /** It was longer than what was to be read. */
  cut: boolean
}

/** A request that has no answer: nobody knows whether it arrived. */
export class NoAnswer extends Error {
  readonly code: string

  constructor(
    e: unknown,
    /** The connection had been kept, and was closed before it said anything: the server may just have ended it (RFC 9112 9.3.1). */
    readonly stale = false,
  ) {
    super(e instanceof Error ? e.message : String(e))
    this.code = (e as { code?: string }).code ?? ''
  }
}

/** Makes requests over connections that are kept, to addresses that may be reached. It never retries and follows nothing. */
export class Web {
  private readonly plain: PlainAgent
  private readonly secure: SecureAgent
  private readonly aborts = new Set<AbortController>()
  /** What was told last of the time there; null: nothing yet. */
  told: PeerTime | null = null

  constructor(
    private readonly access: WebAccess,
    private readonly clock: Clock,
  ) {
    const how = { keepAlive: true, maxSockets: access.parallel + 1, scheduling: 'fifo' as const }
    this.plain = new PlainAgent(how)
    this.secure = new SecureAgent({ ...how, ...access.tls })
  }

  /**
   * Rejects with `NoAnswer` when none comes, or with why the address may not be reached. On a kept connection that the server ended
   * just then it goes once more, over another one.
   */
  async send(r: WebRequest): Promise<WebAnswer> {
    try {
      return await this.once(r)
    } catch (e) {
      // Others that were kept may have been ended with it: the next try has a connection of its own.
      if (e instanceof NoAnswer && e.stale) return this.once(r, true)
      throw e
    }
  }

  private once(r: WebRequest, anew = false): Promise<WebAnswer> {
    const secure = r.url.protocol === 'https:'
    const port = Number(r.url.port || (secure ? 443 : 80))
    const at = reach.to(r.url.hostname.replace(/^\[|\]$/g, ''), port)
    const abort = new AbortController()
    this.aborts.add(abort)
    const late = Object.assign(new Error('no answer in time'), { code: 'ETIMEDOUT' })
    const cancel = this.clock.after(this.access.answerMs, () => abort.abort(late))
    return new Promise<WebAnswer>((done, failed) => {
      const length = r.body === null ? {} : { 'content-length': String(r.body.length) }
      const options = {
        ...at,
        method: r.method,
        path: r.url.pathname + r.url.search,
        headers: { host: r.url.host, ...r.headers, ...length },
        signal: abort.signal,
      }
      const request = secure
        ? secureRequest(anew ? { ...options, ...this.access.tls, agent: false } : { ...options, agent: this.secure })
        : plainRequest({ ...options, agent: anew ? false : this.plain })
      let began = false
      request.once('error', (e) => {
        const { aborted } = abort.signal
        failed(new NoAnswer(aborted ? (abort.signal.reason ?? e) : e, request.reusedSocket && !aborted && !began))
      })
      const asked = this.clock.wall()
      const since = this.clock.mono()
      request.once('response', (response) => {
        began = true
        this.told = toldBy(response.headers.date, asked, this.clock.mono() - since) ?? this.told
        const parts: Buffer[] = []
        let octets = 0
        response.on('data', (part: Buffer) => {
          if (octets < r.most) parts.push(part.subarray(0, r.most - octets))
          octets += part.length
          // An answer without end is not waited for.
          if (octets > r.most) response.destroy()
        })
        response.once('error', (e) => (octets > r.most ? undefined : failed(new NoAnswer(e))))
        response.once('close', () => {
          if (!response.complete && octets <= r.most)
            return failed(new NoAnswer(Object.assign(new Error('the answer was cut off'), { code: 'ECONNRESET' })))
          done({ status: response.statusCode ?? 0, headers: response.headers, body: Buffer.concat(parts), cut: octets > r.most })
        })
      })
      request.end(r.body ?? undefined)
    }).finally(() => {
      cancel()
      this.aborts.delete(abort)
    })
  }

  /** Ends all that is under way. */
  close(): void {
    for (const abort of this.aborts) abort.abort(Object.assign(new Error('closed here'), { code: 'ECONNABORTED' }))
    this.plain.destroy()
    this.secure.destroy()
  }
}
