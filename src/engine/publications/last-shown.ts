import type { LastMessage } from '~/contract/live'
import type { Plan } from '~/contract/publication'
import type { Envelope } from '~/core/delivery/envelope'
import type { Addressed } from '~/core/publication/runner'
import { decoderOf, scopeOf } from '~/core/shape/registry'
import type { Decoder } from '~/core/shape/shape'
import { type Packed, shownPayload } from './message'

/** How often another message is picked to be shown with its way, ms. */
const SHOW_EVERY_MS = 1000
/** A shown message that is not confirmed by then is replaced. */
const SHOW_AT_MOST_MS = 4000

/** A message made lately, and its way so far: for people who look. */
export class LastShown {
  message: LastMessage | null = null
  private shownAt = Number.NEGATIVE_INFINITY
  private readonly decoders = new Map<number, Decoder>()

  constructor(private readonly plan: Plan) {}

  private decoder(n: number): Decoder {
    let decoder = this.decoders.get(n)
    if (!decoder) this.decoders.set(n, (decoder = decoderOf(this.plan.shape, scopeOf(this.plan, this.plan.messages[n]!))))
    return decoder
  }

  /** One was made: it is taken where the one before had its time. */
  made(e: Envelope, n: number, message: Addressed, packed: Packed): void {
    const age = e.madeMono - this.shownAt
    if (this.message && age < (this.message.confirmedAt === null ? SHOW_AT_MOST_MS : SHOW_EVERY_MS)) return
    this.shownAt = e.madeMono
    this.message = {
      publicationId: this.plan.publicationId,
      seq: e.seq,
      topic: e.topic,
      message: shownPayload(this.plan, message, packed, this.decoder(n)),
      deviceAt: e.deviceAt,
      producedAt: e.producedAt,
      storedAt: null,
      sentAt: null,
      acknowledgedAt: null,
      confirmedAt: null,
    }
  }

  /** It got one hop further. */
  step(step: 'stored' | 'sent' | 'acknowledged' | 'confirmed', seq: number, at: number): void {
    if (this.message?.seq === seq) this.message = { ...this.message, [`${step}At`]: at }
  }
}
