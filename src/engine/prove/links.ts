import { proxyAt } from '~/contract/broker-reach'
import { fail } from '~/contract/failure'
import type { ProofFault } from '~/contract/prove'
import { kindOf } from '~/core/address/kinds'
import { type Clock, sleep } from '../clock/clock'
import type { DestinationSupervisor } from '../destinations/supervisor'
import { detours } from '../net/detours'
import { FaultProxy } from './fault-proxy'

/** So long the links of a destination may take to stand again, ms, looked at so often. */
const STANDS_MS = 60_000
const LOOK_MS = 50

interface At {
  host: string
  port: number
}

/** Where the connections of a destination lead: to a proxy where one stands between. */
function addressesOf({ destination: { kind, settings, name } }: DestinationSupervisor): At[] {
  const proxy = proxyAt((settings as { proxy?: string }).proxy ?? '')
  if (proxy) return [{ host: proxy.host, port: proxy.port }]
  const places =
    kind === 'datagram' ? [] : [...kindOf({ kind }).reached(settings as never), ...(kindOf({ kind }).witnessReached?.(settings as never) ?? [])]
  const all = new Map(
    places.flatMap((place) => {
      const found = /^[a-z0-9+-]+:\/\/(\[[^\]]+\]|[^:/]+):(\d+)$/.exec(place)
      return found ? [[place, { host: found[1]!.replace(/^\[|\]$/g, ''), port: Number(found[2]) }] as const] : []
    }),
  )
  if (all.size === 0)
    throw fail(422, 'proof.no-link', `${name} has no link that could fail: nothing is connected there`, 'Leave its faults out', 'destination')
  return [...new Map([...all.values()].map((at) => [`${at.host} ${at.port}`, at])).values()]
}

/** Whether the connections of a lane stand: that of the sender, and that of the witness where there is one. */
const stands = (lane: DestinationSupervisor): boolean =>
  lane.connected && (!lane.destination.settings.witness || (lane.witness?.view() ?? null) !== null)

const notConnected = ({ destination: { name } }: DestinationSupervisor) =>
  fail(409, 'proof.link', `${name} is not connected: faults cannot be told from what is wrong already`, 'Mend its connection first', 'destination')

/** Lets the connections of one destination go through proxies that fail on purpose; nothing of its settings is another. */
export class FaultyLinks {
  private readonly proxies: { at: At; proxy: FaultProxy }[] = []

  private constructor(
    /** Those that stood when it began: one that nobody speaks on has no connection that could come back. */
    private readonly lanes: readonly DestinationSupervisor[],
    private readonly clock: Clock,
  ) {}

  static async between(lanes: readonly DestinationSupervisor[], clock: Clock, stopped: () => boolean): Promise<FaultyLinks> {
    const standing = lanes.filter(stands)
    const addresses = addressesOf(lanes[0]!)
    if (standing.length === 0) throw notConnected(lanes[0]!)
    const links = new FaultyLinks(standing, clock)
    try {
      for (const at of addresses) {
        const proxy = await FaultProxy.open(at.host, at.port)
        links.proxies.push({ at, proxy })
        detours.open(at.host, at.port, proxy.port)
      }
      await links.anew(stopped)
      return links
    } catch (e) {
      await links.close()
      throw e
    }
  }

  /** All connections are made anew, by the way that leads there now. */
  private async anew(stopped: () => boolean): Promise<void> {
    for (const lane of this.lanes) await lane.reconnect()
    const until = this.clock.mono() + STANDS_MS
    while (!this.stand && !stopped()) {
      if (this.clock.mono() > until) throw notConnected(this.lanes[0]!)
      await sleep(this.clock, LOOK_MS)
    }
  }

  /** Whether all connections stand that stood when it began. */
  get stand(): boolean {
    return this.lanes.every(stands)
  }

  get connections(): number {
    return this.proxies.reduce((n, { proxy }) => n + proxy.connections, 0)
  }

  set(how: Pick<ProofFault, 'kind' | 'way' | 'ms' | 'octetsPerS'> | null): void {
    for (const { proxy } of this.proxies) proxy.set(how)
  }

  /** The way is straight again. */
  async close(): Promise<void> {
    for (const { at } of this.proxies) detours.close(at.host, at.port)
    if (this.proxies.length > 0) for (const lane of this.lanes) if (!lane.stopped) await lane.reconnect()
    for (const { proxy } of this.proxies.splice(0)) await proxy.close()
  }
}
