import { inRecords, type Meter } from '../budget/meter'
import { ID_PROPERTY } from '../delivery/envelope'
import { unpackProperties } from '../delivery/properties'
import { Framer } from './publish'
import { qosOf } from './qos'
import type { Version } from './wire'

/** PUBACK, PUBREC, PUBREL and PUBCOMP without a reason (MQTT 5 3.4.2.1): head, length and identifier. */
const ANSWER = 4

/**
 * What PUBLISH packets and their answers are on the wire (MQTT 5 3.3 to 3.7; 3.1.1 alike, without properties). Of messages that are
 * made at once the first goes out in a piece of its own, all others while that is written in another; they are answered in one.
 */
export function mqttMeter({ version, tls, aliases }: { version: Version; tls: boolean; aliases: number }): Meter {
  const framer = new Framer(version, ID_PROPERTY)
  framer.allowAliases(aliases)
  const around = (octets: number) => (tls ? inRecords(octets) : octets)
  let [out, back] = [0, 0]
  const fresh = (at: number) => ({ at, first: 0, answers: 0, releases: 0 })
  let turn = fresh(Number.NaN)
  const settle = () => {
    out += around(turn.first) + around(framer.take().length) + around(turn.releases * ANSWER)
    // Who takes a message twice over answers twice, one after the other.
    back += around(turn.answers * ANSWER) + around(turn.releases * ANSWER)
  }
  return {
    add({ at, place, payload, properties, assurance, id }) {
      if (at !== turn.at) {
        settle()
        turn = fresh(at)
      }
      const qos = qosOf[assurance]
      const { expiryS, kept = false } = unpackProperties(properties)
      framer.publish({ topic: place, payload, qos, retain: kept, dup: false, packetId: qos > 0 ? 1 : 0, properties, id, expiryS })
      if (turn.first === 0) turn.first = framer.take().length
      if (qos > 0) turn.answers++
      if (qos === 2) turn.releases++
    },
    wire() {
      settle()
      turn = fresh(Number.NaN)
      return { out, back }
    },
  }
}
