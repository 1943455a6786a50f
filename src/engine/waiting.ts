import { fail } from '~/contract/failure'
import { WAITING_PAGE, type WaitingMessage, type WaitingMessages, type WaitingWhole, type WhichWaiting } from '~/contract/waiting'
import type { Envelope } from '~/core/delivery/envelope'
import type { Destinations } from './destinations/destinations'
import type { Outbox } from './outbox/outbox'
import { octets } from './publications/compress'
import type { Publications } from './publications/publications'
import { payloadOf } from './publications/read-payload'

/** Looks into the outboxes of a destination and of the nodes that speak there. */
export class Waiting {
  constructor(
    private readonly destinations: Destinations,
    private readonly publications: Publications,
  ) {}

  private outboxes(destinationId: string): Outbox[] {
    return this.destinations.lanesOf(destinationId).map((d) => d.outbox)
  }

  private shown({ delivery, seq, topic, payload, producedAt }: Envelope): WaitingMessage {
    const publicationId = this.publications.deliveries.find((d) => d.number === delivery)?.publicationId ?? null
    return { delivery, seq, publicationId, topic, octets: octets(payload).length, producedAt }
  }

  /** A page of what waits, the oldest first. */
  async list(destinationId: string, from: number): Promise<WaitingMessages> {
    const outboxes = this.outboxes(destinationId)
    const messages: WaitingMessage[] = []
    let skip = from
    for (const outbox of outboxes) {
      const some = await outbox.inside.look(skip, WAITING_PAGE - messages.length)
      messages.push(...some.map((e) => this.shown(e)))
      skip = Math.max(0, skip - outbox.onDisk)
      if (messages.length >= WAITING_PAGE) break
    }
    const sum = (of: (o: Outbox) => number) => outboxes.reduce((n, o) => n + of(o), 0)
    return { waiting: sum((o) => o.waiting), bytes: sum((o) => o.bytes), capBytes: sum((o) => o.cap), messages }
  }

  /** One whole, read again by the shape of its publication where that runs and sends there. */
  async open(destinationId: string, delivery: number, seq: number): Promise<WaitingWhole> {
    for (const outbox of this.outboxes(destinationId)) {
      const found = await outbox.inside.lookAt(delivery, seq)
      if (found) return { ...this.shown(found), message: payloadOf(found, this.publications.of(delivery)?.plan ?? null) }
    }
    throw fail(404, 'outbox.gone', 'It does not wait any more', 'It was sent meanwhile, or given up', 'destination')
  }

  /** Gives up what is meant, but nothing that is on the wire; gives how many that were. */
  async clear(destinationId: string, { publicationId, message }: WhichWaiting): Promise<number> {
    const own = new Set(
      this.publications.deliveries.filter((d) => publicationId === undefined || d.publicationId === publicationId).map((d) => d.number),
    )
    let count = 0
    for (const outbox of this.outboxes(destinationId))
      count += await outbox.inside.clear(
        (e) => (message ? e.delivery === message.delivery && e.seq === message.seq : publicationId === undefined || own.has(e.delivery)),
        (delivery) => (message ? delivery === message.delivery : publicationId === undefined || own.has(delivery)),
      )
    return count
  }
}
