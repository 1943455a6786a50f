import { isDeepStrictEqual } from 'node:util'
import type { CheckStep, Failure } from '~/contract/failure'
import { momentOf } from '~/core/credential/intake/token'
import { unpackProperties } from '~/core/delivery/properties'
import { beyondProfile } from '~/core/hub/profile'
import { qosOf } from '~/core/mqtt/qos'
import { realClock } from '../../clock/real-clock'
import { dialMqtt } from '../../net/mqtt-dial'
import type { DestinationDriver, DestinationTarget, Planned } from '../driver'
import { checkMqtt } from '../mqtt/check'
import { mqttDriver, openMqtt, type Say } from '../mqtt/driver'
import { witnessAccess } from '../stream/access'
import { streamDriver } from '../stream/driver'
import { StreamFarEnd } from '../stream/far-end'
import { downOf } from './down'
import { HubFarEnd } from './far-end'
import { Housekeeping } from './housekeeping'
import { askRegistry } from './registry'
import { HubSender, todayOf } from './sender'
import { asBroker, asStream, unitOf } from './targets'

type Target = DestinationTarget<'hub'>

/** Cloud hubs: a broker to who sends, a stream of events to who reads back, in between what their profile says. */
export const hubDriver: DestinationDriver<'hub'> = {
  carriesId: ({ profile }) => profile.properties !== 'none',
  protection: (t) => mqttDriver.protection(asBroker(t)),
  rights: ({ unit, eventsTopic }) => `of ${unit} at the hub, or of its witness to read ${eventsTopic}`,
  within: ({ topic }) => topic,
  manner: ({ assurance, properties }) => `${assurance} ${unpackProperties(properties).kept === true}`,
  described: ({ topic, assurance }) => `${topic.slice(0, 200)} (QoS ${qosOf[assurance]})`,
  dislikes: "look at the hub's own log, the place, size and quota of the unit",
  sameSender: (a, b) => mqttDriver.sameSender(asBroker(a), asBroker(b)) && isDeepStrictEqual(a.settings.profile, b.settings.profile),
  sameWitness: (a, b) =>
    streamDriver.sameWitness(asStream(a), asStream(b)) &&
    a.settings.eventsTopic === b.settings.eventsTopic &&
    isDeepStrictEqual(a.settings.profile, b.settings.profile),
  check: checkHub,
  ownView: askRegistry,
  async open(target, o) {
    const { settings } = target
    const unit = unitOf(target)
    const today = await todayOf(o)
    const house = new Housekeeping(settings.profile, unit, o.clock)
    const beside = { ...downOf(settings.profile, unit, o.sink, o.clock), begun: (say: Say) => house.begun(say) }
    const inner = await openMqtt(dialMqtt, asBroker(target), o, beside)
    return new HubSender(inner, settings, unit, o, today, house)
  },
  farEnd(target, sink, clock) {
    const { idHeader, placeHeader } = target.settings.profile
    return new HubFarEnd(new StreamFarEnd(witnessAccess(asStream(target)), sink, clock, { idHeader, placeHeader }), target.settings.eventsTopic)
  },
}

/** As a broker, without messages of its own: a hub would count them. Then what publications send, and the events. */
async function* checkHub(target: Target, planned: Planned): AsyncGenerator<CheckStep> {
  let failed = false
  const byToken = target.settings.profile.logInBy === 'token'
  // Under its own name, as hubs want it.
  const itself = { connected: planned.connected ?? false }
  for await (const step of checkMqtt(asBroker(target), { filters: [], sends: [], others: [] }, itself)) {
    failed ||= step.state === 'failed'
    yield byToken && step.key === 'login' ? withClock(step) : step
  }
  const limits = { key: 'limits', label: 'What it takes', ms: null }
  const beyond = failed ? null : beyondOf(target, planned)
  if (beyond) {
    failed = true
    yield { ...limits, state: 'failed', detail: beyond.message, failure: beyond }
  } else if (planned.sends.length > 0) {
    const words = 'all that its publications send, by what its profile says'
    yield failed ? { ...limits, state: 'skipped', detail: 'not tried' } : { ...limits, state: 'passed', detail: words }
  }
  if (!target.settings.witness) return
  for await (const step of streamDriver.check(asStream(target), { filters: [target.settings.eventsTopic], sends: [], others: [] })) {
    const named = { ...step, key: `events-${step.key}`, label: `Events: ${step.label}` }
    if (!failed) yield step.failure ? { ...named, failure: { ...step.failure, where: 'witness' as const } } : named
    else if (step.state !== 'running') yield { ...named, state: 'skipped', detail: 'not tried', failure: undefined }
  }
}

/** Hubs most often do not tell why they refuse a token: a clock that is off looks like a wrong key. */
function withClock(step: CheckStep): CheckStep {
  if (!step.failure) return step
  const hint = `${step.failure.hint}. Hubs say the same when a clock is off by minutes: it is ${momentOf(realClock.wall())} here`
  return { ...step, failure: { ...step.failure, hint } }
}

/** The first publication of which the hub would not take a message. */
function beyondOf({ settings: { profile } }: Target, { sends }: Planned): Failure | null {
  for (const s of sends) {
    const found = beyondProfile(profile, { qos: qosOf[s.assurance], kept: s.kept, octets: s.bytes ?? 0, place: s.topic })
    if (found) return { code: `hub.${found.code}`, message: `${s.publication}: ${found.message}`, hint: found.hint, where: 'destination' }
  }
  return null
}
