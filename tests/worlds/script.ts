import type { MqttSettings } from '~/contract/destinations/mqtt'
import { chance } from '~/core/value/chance'
import type { Temper } from './broker'
import type { Mood } from './store'

/** One thing that happens; `at` in s since the world began. */
export type Step =
  | { kind: 'lay'; at: 0; settings: Partial<MqttSettings>[]; publications: { destination: number; qos: 0 | 1 | 2 }[]; everyMs: number }
  | { kind: 'cut'; at: number; ms: number }
  | { kind: 'deaf'; at: number; up: boolean }
  | { kind: 'weather'; at: number; latency: number; bandwidth: number | null }
  | { kind: 'broker'; at: number; memory: 'kept' | 'older' | 'none'; ms: number }
  | { kind: 'temper'; at: number; part: Partial<Temper> }
  | { kind: 'database'; at: number; mood: Mood; ms: number }
  /** One engine alone loses the database. */
  | { kind: 'partition'; at: number; mood: Mood; ms: number }
  | { kind: 'kill'; at: number; told: boolean; ms: number }
  | { kind: 'second engine'; at: number }
  | { kind: 'clock'; at: number; ms: number }
  | { kind: 'save'; at: number; destination: number; enabled: boolean; part: Partial<MqttSettings> }
  | { kind: 'go live'; at: number; publication: number; qos: 0 | 1 | 2 }
  | { kind: 'pause'; at: number; publication: number }
  | { kind: 'flood'; at: number; n: number }
  /** The database comes back as it was so long before, ms; the engine is killed first, or finds out. */
  | { kind: 'restore'; at: number; agoMs: number; killed: boolean }
  /** The link is cut again and again, and is there between. */
  | { kind: 'flaps'; at: number; n: number; everyMs: number }

type Kind = Exclude<Step['kind'], 'lay' | 'flaps' | 'restore'>

/** Draws what there is, which faults a world uses at all, and when they come: rare pairs meet that an even mix never brings together. */
export function draw(seed: number, minutes: number, restores = false): Step[] {
  const [lay, ...steps] = drawOld(seed, minutes)
  const later = drawLater(seed, minutes, restores ? 1 : 0.1).filter((s) => restores || s.kind !== 'restore')
  return [lay!, ...[...steps, ...later].sort((a, b) => a.at - b.at)]
}

/** What was thought of later has a chance of its own, so that worlds kept from before stay what they were. */
function drawLater(seed: number, minutes: number, restored: number): Step[] {
  const random = chance(seed ^ 0xf1a9)
  const pick = <T>(...of: T[]): T => of[Math.floor(random() * of.length)]!
  const moments = (share: number) => (random() < share ? Array.from({ length: pick(1, 2) }, () => 2 + random() * (minutes * 60 - 10)) : [])
  return [
    ...moments(0.2).map((at): Step => ({ kind: 'flaps', at, n: pick(5, 20, 40), everyMs: pick(300, 2000, 5000) })),
    ...moments(restored).map((at): Step => ({ kind: 'restore', at, agoMs: pick(2000, 20_000, 60_000), killed: random() < 0.5 })),
    ...moments(0.2).map((at): Step => ({ kind: 'temper', at, part: pick({ busy: pick(0.02, 0.3) }, { ackMs: pick(1500, 3500) }) })),
  ]
}

export function drawOld(seed: number, minutes: number): Step[] {
  const random = chance(seed ^ 0x5eed)
  const pick = <T>(...of: T[]): T => of[Math.floor(random() * of.length)]!
  const between = (a: number, b: number) => Math.round(a + random() * (b - a))
  const qos = () => pick<0 | 1 | 2>(0, 1, 1, 2)
  const destinations = pick(1, 1, 2)
  const lay: Step = {
    kind: 'lay',
    at: 0,
    settings: Array.from({ length: destinations }, () => ({
      protocol: pick<'5' | '3.1.1'>('5', '5', '3.1.1'),
      window: pick(1, 5, 20, 100),
      lateS: pick(2, 5, 20),
      ackS: pick(3, 5, 10),
    })),
    publications: Array.from({ length: pick(1, 2, 3) }, (_, i) => ({ destination: i % destinations, qos: qos() })),
    everyMs: pick(700, 2000, 5000),
  }
  const makers: Record<Kind, (at: number) => Step> = {
    cut: (at) => ({ kind: 'cut', at, ms: pick(0, 50, 2000, 20_000) }),
    deaf: (at) => ({ kind: 'deaf', at, up: random() < 0.5 }),
    weather: (at) => ({ kind: 'weather', at, latency: pick(1, 20, 200), bandwidth: pick(null, null, 1000, 20_000) }),
    broker: (at) => ({ kind: 'broker', at, memory: pick('kept', 'kept', 'older', 'none'), ms: pick(100, 3000, 15_000) }),
    temper: (at) => ({ kind: 'temper', at, part: temper() }),
    database: (at) => ({
      kind: 'database',
      at,
      mood: pick<Mood>('away', 'hangs', 'full', 'loses answers', 'commits late'),
      ms: pick(500, 5000, 25_000),
    }),
    partition: (at) => ({ kind: 'partition', at, mood: pick<Mood>('away', 'hangs', 'commits late'), ms: pick(5000, 12_000, 30_000) }),
    kill: (at) => ({ kind: 'kill', at, told: random() < 0.6, ms: pick(50, 1000, 10_000) }),
    'second engine': (at) => ({ kind: 'second engine', at }),
    clock: (at) => ({ kind: 'clock', at, ms: pick(3_600_000, -3_600_000, 90_000, -20_000) }),
    save: (at) => ({
      kind: 'save',
      at,
      destination: between(0, 1),
      enabled: random() < 0.85,
      part: pick<Partial<MqttSettings>>(
        {},
        { lateS: pick(2, 5, 20) },
        { window: pick(1, 10, 50) },
        { keepAliveS: pick(5, 10, 20) },
        { retryMs: 300 },
      ),
    }),
    'go live': (at) => ({ kind: 'go live', at, publication: between(0, 2), qos: qos() }),
    pause: (at) => ({ kind: 'pause', at, publication: between(0, 2) }),
    flood: (at) => ({ kind: 'flood', at, n: pick(30, 400) }),
  }
  function temper(): Partial<Temper> {
    return pick<Partial<Temper>>(
      { inFlight: pick(1, 10) },
      { newIds: true },
      { subackMs: pick(1000, 9000, 40_000) },
      { ackMs: pick(100, 4000) },
      { dropAcks: pick(0.02, 0.2) },
      { dropCopies: 0.02 },
      { doubleCopies: 0.02 },
      { hangsUpOn: 'p1' },
      { refuses: 'p1' },
      { quotaUntil: 10_000 },
      { maximumQos: 1 },
      { maximumPacketSize: 60 },
    )
  }
  const kinds = (Object.keys(makers) as Kind[]).filter(() => random() < 0.3)
  const steps: Step[] = []
  for (const kind of kinds) for (let n = between(1, 4); n > 0; n--) steps.push(makers[kind](2 + random() * (minutes * 60 - 10)))
  steps.sort((a, b) => a.at - b.at)
  return [lay, ...steps]
}
