import { describe, expect, it } from 'vitest'
import type { BrokerFaults } from '~/standins/broker/faults'
import { listEvents } from '~/store/event'
import { pause } from './scene'
import { type Ends, type Like, openStreams, type Stream } from './streams'
import { until } from './support'

// What a broker will not take, not pass on, or not let read, each with 20,000 messages at QoS 0, 1 and 2 over 5 and 3.1.1:
// the others are not touched, what became of those is told as it is, and nobody is accused.

const TOTAL = 20_000

interface Habit {
  faults: Partial<BrokerFaults>
  like?: Like
  /** What those that it concerns end as; null: as the broker's log has it. */
  ends?: Ends
  /** Comes true while messages flow, then ends. */
  passing?: boolean
  /** Codes of events that must be told, and words in one of them. */
  told: readonly [code: string, words: string][]
  /** How many of a stream may be called missing at any moment. */
  missing?: (s: Stream, made: number) => number
}

const bad = (topic: string) => topic.endsWith('/3')
const count = (s: Stream) => s.made.filter((m) => bad(m.topic)).length
/** At QoS 0 those on which it hangs up are lost, with what went out behind them, until their topic is known. */
const aside: Ends = (s, m) => (!bad(m.topic) ? null : s.qos === 0 ? ['rejected', 'missing'] : ['rejected'])
const lost = (s: Stream, made: number) => (s.qos === 0 ? made : 0)

const habits: Record<string, Habit> = {
  'hangs up on some messages': { faults: { hangUpOn: '/3' }, ends: aside, missing: lost, told: [['destination.hangs-up', '/3']] },
  'takes packets up to a size, and says so over 5 only': {
    faults: { maximumPacketSize: 300 },
    like: (topic) => ({ pad: bad(topic) ? 400 : 0 }),
    ends: aside,
    missing: lost,
    told: [
      ['mqtt.size', 'the broker takes 300'],
      ['destination.hangs-up', '/3'],
    ],
  },
  'keeps no messages': {
    faults: { retainAvailable: false },
    like: (topic) => ({ retain: bad(topic) }),
    ends: aside,
    missing: lost,
    told: [
      ['mqtt.retain', ''],
      ['destination.hangs-up', '/3'],
    ],
  },
  'takes QoS 0 and 1 only': {
    faults: { maximumQos: 1 },
    ends: (s) => (s.qos === 2 ? ['rejected'] : null),
    missing: lost,
    told: [
      ['mqtt.qos', ''],
      ['destination.hangs-up', 'QoS 2'],
    ],
  },
  'takes some messages and passes them to nobody': {
    faults: { swallow: '/3' },
    told: [['ledger.missing', 'Between the destination and its readers']],
    missing: (s) => count(s),
  },
  'lets the witness subscribe, and hands it nothing': {
    faults: { hollowFilter: '/q1/' },
    told: [['ledger.missing', 'Most likely a permission']],
    missing: (s, made) => (s.qos === 1 ? made : 0),
  },
  'does not let the witness read some topics': {
    faults: { refuseFilter: '/q1/' },
    ends: (s) => (s.qos === 1 ? ['unknown'] : null),
    told: [['witness.refused', '/q1/']],
  },
  'exchanges dots and slashes of topics': {
    faults: { exchangeDots: true },
    ends: () => ['altered', 'missing'],
    told: [
      ['ledger.altered', 'another topic'],
      ['ledger.missing', 'another topic'],
    ],
    missing: (s, made) => (s.protocol === '5' ? 0 : made),
  },
  'says that a quota is used up': { faults: { quota: true }, passing: true, told: [['destination.takes', '']] },
  'speaks 3.1.1 only': { faults: { oldOnly: true }, passing: true, told: [['destination.up', '']] },
}

describe.concurrent('a broker that', () => {
  it.each(Object.entries(habits))('%s', { timeout: 1_200_000 }, async (name, h) => {
    const w = await openStreams(name.replaceAll(/\W+/g, '-'), h.faults)
    if (!h.passing) await w.up()
    const from = w.marks()
    const accused: string[] = []
    const look = setInterval(() => {
      for (const s of w.streams) {
        const { missing } = w.engine.ledger.countsOf(s.delivery)!
        if (missing > (h.missing?.(s, s.made.length) ?? 0)) accused.push(`${s.name}: ${missing} missing`)
      }
    }, 20)
    const f = await w.flow(TOTAL, w.streams, () => undefined, { like: h.like, waiting: h.passing ? TOTAL : 3000 })
    if (h.passing) {
      await pause(6000)
      w.b.broker.setFaults(null)
    }
    await until(f.settled, 'every verdict', 900)
    f.look()
    clearInterval(look)
    expect(accused.slice(0, 5)).toEqual([])
    expect(f.worst).toMatchObject({ foreign: 0 })
    for (const s of w.streams) {
      // At QoS 0 what was on a connection that is closed is lost, and sent again.
      const wrong = w.wrongOf(s, from.get(s)!, h.ends).filter((x) => !(s.qos === 0 && x.is === 'unknown'))
      expect(wrong.slice(0, 5), s.name).toEqual([])
    }
    const eventsOf = async () => {
      await w.engine.events.flush()
      return listEvents(w.t.db, 500)
    }
    for (const [code, words] of h.told)
      await until(
        async () => (await eventsOf()).some((e) => e.code === code && `${e.message} ${e.hint}`.includes(words)),
        `${code} ${words} to be told`,
      )
    const events = await eventsOf()
    expect(events.filter((e) => e.code === 'ledger.foreign' || (e.code === 'ledger.altered' && !h.told.some(([code]) => code === e.code)))).toEqual(
      [],
    )
    const blamed = events.filter((e) => e.hint.includes('permission') && e.code === 'ledger.missing')
    if (h.faults.hollowFilter === undefined) expect(blamed).toEqual([])
    await w.close()
  })
})
