import type { MqttSettings } from '~/contract/destinations/mqtt'
import { serversOf } from '~/contract/place'
import type { Remembered } from '../driver'

export interface HostAt {
  host: string
  port: number
}

const same = (a: HostAt, b: HostAt) => a.host === b.host && a.port === b.port

/** Reads where a broker sends us (MQTT 5 4.11): hosts apart by spaces, each with a port or without; null: nothing that can be read. */
export function referenced(reference: string, port: number): HostAt | null {
  for (const one of reference.trim().split(/\s+/)) {
    const bare = /^(\[[0-9a-f:]+\]|[^\s:/?#@]+)$/i.exec(one)
    const [found] = serversOf(one) ?? (bare ? [{ host: one.replace(/^\[|\]$/g, ''), port }] : [])
    if (found) return found
  }
  return null
}

/**
 * The hosts of one destination, and which of them is used now: that of the sender, which its witness follows. The sender goes on to
 * the next when one cannot be reached, and back to the first when that answers again.
 */
export class Hosts {
  private list: readonly HostAt[] = []
  private at = 0
  /** Where the broker sent us; null: nowhere. */
  private elsewhere: { to: HostAt; moved: boolean } | null = null
  /** Where the last connection of the sender was; null: this run has had none. */
  private last: HostAt | null = null
  private readonly followers = new Set<(to: HostAt) => void>()

  /** Those of a destination, for as long as this run goes on; what the settings say now holds. */
  static of(remembered: Remembered, settings: MqttSettings): Hosts {
    let hosts = remembered.get('hosts') as Hosts | undefined
    if (!hosts) remembered.set('hosts', (hosts = new Hosts()))
    hosts.take([{ host: settings.host, port: settings.port }, ...(serversOf(settings.otherHosts ?? '') ?? [])])
    return hosts
  }

  private take(list: readonly HostAt[]): void {
    const unchanged = list.length === this.list.length && list.every((one, i) => same(one, this.list[i]!))
    if (unchanged) return
    this.list = list
    this.at = 0
    this.elsewhere = null
  }

  get current(): HostAt {
    return this.elsewhere?.to ?? this.list[this.at]!
  }

  get first(): HostAt {
    return this.list[0]!
  }

  /**
   * Whether the sender may go on with what the host remembers of it. On another host than the last it may not: what that one holds is
   * of long ago, and identifiers of messages are used again (MQTT 5 4.3.3).
   */
  get goesOn(): boolean {
    return this.last ? same(this.last, this.current) : this.list.length === 1 && this.elsewhere === null
  }

  /** Another than the first is used, and was not chosen by the broker. */
  get away(): boolean {
    return this.elsewhere === null && this.at > 0
  }

  /** It could not be reached: the next one is tried. */
  failed(): void {
    if (this.elsewhere) this.elsewhere = null
    else this.at = (this.at + 1) % this.list.length
  }

  /** The link to it is lost: one that the broker named for a while is not gone back to. */
  lost(): void {
    if (this.elsewhere?.moved === false) this.elsewhere = null
  }

  /** The broker wants us elsewhere, from now on (`moved`) or for this once; gives whether that is another place. */
  redirected(to: HostAt, moved: boolean): boolean {
    if (same(to, this.current)) return false
    const listed = this.list.findIndex((one) => same(one, to))
    if (listed >= 0) {
      this.elsewhere = null
      this.at = listed
    } else this.elsewhere = { to, moved }
    return true
  }

  /** Whether it is one of those that the settings name: then it may be gone to in any case. */
  lists(to: HostAt): boolean {
    return this.list.some((one) => same(one, to))
  }

  home(): void {
    this.at = 0
    this.elsewhere = null
  }

  /** The sender is connected there: who reads moves too. */
  settled(): void {
    this.last = this.current
    for (const follow of this.followers) follow(this.current)
  }

  /** Hears where the sender is; gives what ends it. */
  follow(then: (to: HostAt) => void): () => void {
    this.followers.add(then)
    return () => this.followers.delete(then)
  }
}
