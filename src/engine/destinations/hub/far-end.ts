import type { WitnessView } from '~/core/delivery/account'
import type { FarEnd, Position } from '../far-end'

/** The events of a hub: one topic of a stream, in which all that it took lies, wherever that went. */
export class HubFarEnd implements FarEnd {
  constructor(
    private readonly events: FarEnd,
    private readonly topic: string,
  ) {}

  restore(position: Position): void {
    this.events.restore(position)
  }
  prepare(): void {
    this.events.prepare()
  }
  async connect(): Promise<void> {
    await this.events.watch([this.topic])
    await this.events.connect()
  }
  async watch(): Promise<void> {
    await this.events.watch([this.topic])
  }
  view(): WitnessView | null {
    const view = this.events.view()
    return view && { ...view, coveredSince: () => view.coveredSince(this.topic) }
  }
  probe(): void {
    this.events.probe()
  }
  silentMs(): number {
    return this.events.silentMs()
  }
  position(): Uint8Array | null {
    return this.events.position()
  }
  counted(token: unknown, delivery: number, seq: number, sentMono: number | null): void {
    this.events.counted(token, delivery, seq, sentMono)
  }
  safe(token: unknown): void {
    this.events.safe(token)
  }
  release(): void {
    // What is read stays the same, whoever writes.
  }
  close(): void {
    this.events.close()
  }
}
