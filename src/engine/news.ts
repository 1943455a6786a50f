import { Account } from '~/core/delivery/account'
import { type About, Teller } from '~/core/delivery/news'
import type { DeliveryRow } from '~/store/publication'
import type { Events } from './events'
import type { Ledger } from './ledger/ledger'

/** Tells people what goes wrong with messages, as it begins, lasts and is taken back. */
export class News {
  private readonly tellers = new Map<number, Teller>()

  constructor(
    private readonly ledger: Ledger,
    private readonly events: Events,
    /** Whose permissions decide about a delivery, in words. */
    private readonly permissions: (d: DeliveryRow) => string,
  ) {}

  private about(d: DeliveryRow): About {
    const { elsewhere } = this.ledger.account(d.number)
    return {
      nothingArrives: `Nothing arrives any more. Most likely a permission: ${this.permissions(d)}. Some brokers drop without a word what is not allowed`,
      elsewhere:
        elsewhere && `They arrive on another topic: ${elsewhere.seen} instead of ${elsewhere.sent}. The broker or a bridge exchanges characters`,
    }
  }

  /** What stands in the ledger now is nothing new. */
  begin(deliveries: readonly DeliveryRow[]): void {
    for (const d of deliveries) this.tellers.set(d.number, new Teller(this.ledger.account(d.number).counts()))
  }

  /** `now` monotonic, ms. */
  tell(deliveries: readonly DeliveryRow[], now: number): void {
    for (const d of deliveries) {
      let teller = this.tellers.get(d.number)
      // One that is new since the start has nothing behind it.
      if (!teller) this.tellers.set(d.number, (teller = new Teller(new Account(d.number).counts())))
      for (const n of teller.tell(this.ledger.account(d.number).counts(), now, this.about(d)))
        this.events.add({ ...n, where: 'ledger', subjectId: d.publicationId, subject: `${d.publication}, to ${d.destination}` })
    }
    if (this.tellers.size <= deliveries.length) return
    const there = new Set(deliveries.map((d) => d.number))
    for (const n of this.tellers.keys()) if (!there.has(n)) this.tellers.delete(n)
  }
}
