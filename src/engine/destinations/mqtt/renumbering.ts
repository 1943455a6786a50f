/** So many messages repeated under other identifiers, and none under its own, before a broker is taken for one that renumbers. */
const ENOUGH = 2

/**
 * Whether a broker repeats deliveries under new packet identifiers (against MQTT 5 4.4). One such repetition proves nothing: a
 * broker may have made a copy of its own, and have got the acknowledgement of the first. Several, with none under its own
 * identifier, do; and a broker that is seen to keep identifiers is believed again.
 */
export class Renumbering {
  private same = 0
  private other = 0
  /** Evidence of earlier connections that was not enough. */
  private votes = 0

  constructor(public believed = false) {}

  /** A new connection: what it repeats speaks for itself. */
  begin(): void {
    this.votes = this.same > 0 ? 0 : this.votes + this.other
    this.same = this.other = 0
  }

  keptItsIdentifier(): void {
    this.same++
    this.decide()
  }

  /** A message that went out once was handed out again under another identifier. */
  gotAnother(): void {
    this.other++
    this.decide()
  }

  private decide(): void {
    if (this.same > this.other) this.believed = false
    else if (this.other > this.same && this.other + this.votes >= ENOUGH) this.believed = true
  }
}
