export interface SessionMessage {
  topic: string
  payload: Uint8Array
}

/** What somebody asks of a node or of one of its devices: to be born again, or something that cannot be done. */
export type Command = { kind: 'rebirth' } | { kind: 'not-yet'; words: string }

/** What a connection has to do so that receivers know who is there: a will, births, deaths, and what it is told by them. */
export interface NodeSession {
  /** Differs when the connection must be made anew. */
  identity: string
  /** The will of the connection. */
  death(number: number, now: number): SessionMessage
  /** Birth of the node, without its number in the session. */
  birth(number: number, now: number): SessionMessage
  /** All that belong to it, by their names. */
  devices: readonly string[]
  deviceBirth(device: string, now: number): SessionMessage
  deviceDeath(device: string, now: number): SessionMessage
  /** Which of its devices has data on this topic; null: none. */
  deviceOf(topic: string): string | null
  /** What has changed of the node itself since its birth, or since this was asked last; null: nothing. */
  news(now: number): SessionMessage | null
  /** Where commands for the node come in, and those for its devices, as a topic filter. */
  commandTopic: string
  deviceCommandFilter: string
  /** What a message there asks for; null: nothing that can be read. */
  commands(topic: string, payload: Uint8Array): Command[] | null
  /** Somebody asked for what cannot be done. */
  notYet(words: string): void
  /** Where the receiver that is waited for says that it is there; null: nobody is waited for. */
  hostTopic: string | null
}

/** What a host says of itself (Sparkplug 3.0 6.4.25): `{"online":true,"timestamp":1772633232481}`; null: it is no such message. */
export function hostState(payload: Uint8Array): { online: boolean; timestamp: number } | null {
  try {
    const state: unknown = JSON.parse(new TextDecoder('utf-8', { fatal: true }).decode(payload))
    if (typeof state !== 'object' || state === null) return null
    const { online, timestamp } = state as { online?: unknown; timestamp?: unknown }
    return typeof online === 'boolean' && typeof timestamp === 'number' && Number.isSafeInteger(timestamp) && timestamp >= 0
      ? { online, timestamp }
      : null
  } catch {
    return null
  }
}
