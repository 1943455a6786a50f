/** What a connection has to do so that receivers know who is there: a will, births, and what it is told by them. */
export interface NodeSession {
  /** Differs when the connection must be made anew. */
  identity: string
  /** The will of the connection. */
  death(number: number, now: number): { topic: string; payload: Uint8Array }
  /** Messages that come before all others, in their order, without their number in the session. */
  births(number: number, now: number): { topic: string; payload: Uint8Array }[]
  /** Where births are asked for again. */
  commandTopic: string
  isRebirth(payload: Uint8Array): boolean
  /** Where the receiver that is waited for says that it is there; null: nobody is waited for. */
  hostTopic: string | null
}

/** Whether the host says that it is there (Sparkplug 3.0 6.4.25): `{"online":true,"timestamp":...}`. */
export function hostOnline(payload: Uint8Array): boolean {
  try {
    const state: unknown = JSON.parse(Buffer.from(payload).toString('utf8'))
    return typeof state === 'object' && state !== null && (state as { online?: unknown }).online === true
  } catch {
    return false
  }
}
