import { afterEach, describe, expect, it } from 'vitest'
import type { HubSettings } from '~/contract/destinations/hub'
import type { CheckStep, FailureError } from '~/contract/failure'
import { flatJsonSettings, ShapeSettings } from '~/contract/shape'
import { shippedProfiles } from '~/core/hub/shipped'
import { Engine } from '~/engine/engine'
import { Registry } from '~/standins/hub/registry'
import { listAsides } from '~/store/aside'
import { addDestination, changeDestination, getDestination } from '~/store/destination'
import { listEvents } from '~/store/event'
import { freeze } from '~/store/freeze'
import { goLive } from '~/store/going-live'
import { addPublication } from '~/store/publication-edit'
import { replaceCredential } from '~/store/replacement'
import { hubWithUnit, UNIT } from './hubs'
import { judged } from './lines'
import { zonesPlant } from './plant'
import { folder, freePort, freshDatabase, until } from './support'

/** A hub, and an engine whose publication goes there. */
async function scene(by: 'token' | 'certificate', profile: object = {}, zones = 2, topic?: string, shape: ShapeSettings = flatJsonSettings) {
  const t = await freshDatabase()
  const at = await hubWithUnit(t, by, profile)
  const { hub, unit, authority, stream, settings, credentialId, ofKey, signed } = at
  const { handles, equipmentIds } = await zonesPlant(t.db, t.vault, zones)
  const destinationId = (await addDestination(t.db, { name: 'Hub', kind: 'hub', enabled: true, settings })).id
  const publication = await addPublication(t.db, {
    name: 'p',
    equipmentIds,
    destinationId,
    trigger: { kind: 'change' },
    shape,
    steersOnly: false,
    address: {
      kind: 'hub',
      topic: topic ?? (by === 'token' ? '{enterprise}/{unit}' : '{unit}'),
      topicRule: 'slug',
      headers: [{ name: 'kind', value: 'zone & more' }],
      contentType: '',
      qos: 1,
    },
  })
  await goLive(t.db, publication.id, 'test', freeze)
  if (by === 'certificate') for (let i = 1; i <= zones; i++) unit.aliases.add(`zone-${i}`)
  const begin = async () => {
    const begun = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('hub') })
    await begun.start()
    return begun
  }
  let engine = await begin()
  const line = () => engine.lines().find((l) => l.publicationId === publication.id)
  const counts = () => engine.ledger.countsOf(line()!.delivery)!
  let value = 0
  const change = () => {
    value++
    engine.table.apply({ handles, values: handles.map(() => value), statuses: handles.map(() => 0), times: handles.map(() => Date.now()) })
  }
  const destination = () => engine.destinations.get(destinationId)!
  const up = () => until(() => destination()?.present().state === 'running' && destination().witness?.view(), 'the hub to be up')
  await up()
  return {
    ...{ t, hub, unit, settings, destinationId, credentialId, authority, stream, destination, counts, change, up, signed, ofKey },
    get engine() {
      return engine
    },
    async again() {
      await engine.stop()
      engine = await begin()
    },
    feed(everyMs: number) {
      const timer = setInterval(change, everyMs)
      return () => clearInterval(timer)
    },
    settled: (seconds = 60) =>
      until(
        () => line() && judged(engine, line()!.delivery) && destination().outbox.waiting === 0,
        () => JSON.stringify(counts()),
        seconds,
      ),
    taken: () => hub.truth.filter((m) => m.refused === null),
    async save(part: Partial<HubSettings>) {
      const d = await getDestination(t.db, destinationId)
      if (d.kind !== 'hub') throw new Error('no hub')
      return changeDestination(t.db, destinationId, { ...d, settings: { ...d.settings, ...part } })
    },
    async events(code: string) {
      await engine.events.flush()
      return (await listEvents(t.db, 500)).filter((e) => e.code === code)
    },
    async end() {
      await engine.stop()
      await at.stop()
      await t.drop()
    },
  }
}
type Scene = Awaited<ReturnType<typeof scene>>
let s: Scene
afterEach(() => s.end())

/** What the hub wrote down is what the ledger says, message by message. */
function agree(): void {
  const ids = s.taken().map((m) => m.id)
  const counts = s.counts()
  expect(new Set(ids).size).toBe(counts.arrived)
  expect(ids.length - new Set(ids).size).toBe(s.engine.ledger.account(s.engine.lines()[0]!.delivery).counts().doubled)
}

describe.each(['token', 'certificate'] as const)('a hub by %s', (by) => {
  it('has everything, once each, at its place, with what was written beside it', async () => {
    s = await scene(by)
    const still = s.feed(4)
    await until(() => s.counts().arrived > 500, 'messages to flow')
    still()
    await s.settled()
    expect(s.counts()).toMatchObject({ missing: 0, unknown: 0, rejected: 0, altered: 0, foreign: 0, doubled: 0, disordered: 0 })
    expect(s.counts().arrived).toBe(s.counts().produced)
    agree()
    expect(new Set(s.taken().map((m) => m.path))).toEqual(new Set(by === 'token' ? ['varnmoor/zone-1', 'varnmoor/zone-2'] : ['zone-1', 'zone-2']))
    const [record] = s.stream.topics.of('events')!.flatMap((p) => p.records)
    const beside = Object.fromEntries(record!.headers.map(([name, v]) => [name, v!.toString()]))
    expect(beside).toMatchObject({ kind: 'zone & more', 'hub-unit': UNIT })
  })

  it('throws out the first of two with one identity: nothing is missing unsaid', async () => {
    s = await scene(by)
    const still = s.feed(5)
    await until(() => s.counts().arrived > 100, 'messages to flow')
    for (let i = 0; i < 3; i++) {
      s.hub.broker.endClient(UNIT, 0x8e)
      const before = s.counts().arrived
      await until(() => s.counts().arrived > before + 100, 'messages to flow again')
    }
    still()
    await s.settled()
    expect(s.counts()).toMatchObject({ missing: 0, unknown: 0, rejected: 0, altered: 0 })
    agree()
  })
})

it('a token is made anew ahead of its end, under 500 messages a second', async () => {
  const [tarn] = shippedProfiles
  s = await scene('token', { token: { ...tarn!.token!, lifetimeS: 30, marginS: 5 } }, 5)
  // Shorter than anybody may ask for: renewed every three seconds.
  await replaceCredential(s.t.db, s.t.vault, s.credentialId, {
    ...s.ofKey(s.unit.keys[0]),
    recipe: { ...s.settings.profile.token!, lifetimeS: 6, marginS: 3 },
  })
  const still = s.feed(10)
  const began = s.hub.broker.greeted
  await until(() => s.hub.broker.greeted >= began + 4, 'four renewals', 60)
  still()
  await s.settled()
  expect(s.counts()).toMatchObject({ missing: 0, unknown: 0, rejected: 0, doubled: 0, altered: 0, disordered: 0 })
  agree()
  expect(s.hub.log.list().filter((l) => l.code === 'token')).toEqual([])
})

it('a certificate is replaced under 500 messages a second', async () => {
  s = await scene('certificate', {}, 5)
  const still = s.feed(10)
  await until(() => s.counts().arrived > 500, 'messages to flow')
  await replaceCredential(s.t.db, s.t.vault, s.credentialId, await s.signed())
  const greeted = s.hub.broker.greeted
  await until(() => s.hub.broker.greeted > greeted, 'another connection')
  const before = s.counts().arrived
  await until(() => s.counts().arrived > before + 500, 'messages to flow on')
  still()
  await s.settled()
  expect(s.counts()).toMatchObject({ missing: 0, unknown: 0, rejected: 0, doubled: 0, altered: 0, disordered: 0 })
  agree()
})

it('what the hub takes a second is kept, so that it refuses next to nothing, and all arrives later', async () => {
  s = await scene('token', { perSecond: 50 })
  s.unit.limits.perSecond = 50
  for (let i = 0; i < 100; i++) s.change()
  await s.settled(90)
  expect(s.counts()).toMatchObject({ missing: 0, rejected: 0, doubled: 0, disordered: 0 })
  expect(s.counts().arrived).toBe(s.counts().produced)
  expect(s.hub.log.list().filter((l) => l.code === 'rate').length).toBeLessThan(20)
  agree()
})

it('what it takes a day is kept: the rest waits, and says until when; more is let through as soon as the profile says more', async () => {
  // What it is told of the unit itself counts too.
  s = await scene('token', { perDay: 21 })
  for (let i = 0; i < 30; i++) s.change()
  await until(
    () => s.counts().arrived === 20 && s.destination().present().reason.includes('a day'),
    () => JSON.stringify([s.counts(), s.destination().present()]),
  )
  expect(s.destination().present().hint).toContain('midnight UTC')
  expect(s.hub.log.list()).toEqual([])
  await s.save({ profile: { ...s.settings.profile, perDay: null } })
  await s.settled()
  expect(s.counts()).toMatchObject({ missing: 0, rejected: 0 })
  expect(s.counts().arrived).toBe(s.counts().produced)
  agree()
})

it('what went out today is known over a new start, so that the quota of a day is kept by two runs together', async () => {
  s = await scene('token', { perDay: 30, selfTopic: '' })
  for (let i = 0; i < 5; i++) s.change()
  await s.settled()
  const before = s.counts().arrived
  expect(before).toBe(10)
  await s.again()
  await s.up()
  for (let i = 0; i < 20; i++) s.change()
  await until(
    () => s.destination().present().reason.includes('a day') && s.counts().arrived === 30,
    () => JSON.stringify([s.counts(), s.destination().present()]),
  )
  // Once more: nothing of the day is left.
  await s.again()
  await until(() => s.destination()?.present().reason.includes('a day'), 'it to be said again')
  expect(s.taken().length).toBe(30)
  // The hub itself did not have to refuse any.
  expect(s.hub.log.list()).toEqual([])
})

it('tells the hub of itself when it connects and by interval; that is no message of a publication', async () => {
  s = await scene('certificate', { selfEveryS: 10 })
  await until(() => s.unit.self, 'the first')
  expect(s.unit.self).toMatchObject({ unit: UNIT, software: expect.stringMatching(/^Embrik \d/), sent: 0, rejected: 0 })
  s.change()
  await s.settled()
  await until(() => (s.unit.self as { acknowledged: number }).acknowledged >= 2, 'the next')
  expect(s.unit.self).toMatchObject({ sent: 2, acknowledged: 2, rejected: 0 })
  expect(s.counts()).toMatchObject({ missing: 0, foreign: 0 })
  agree()
})

describe('its registry', () => {
  const asked = async (part: Partial<HubSettings> = {}) => {
    const port = await freePort()
    const registry = await Registry.start({ port, hub: s.hub, authority: s.authority, events: { servers: '', topic: '', user: '', password: '' } })
    try {
      await s.save({ registryUrl: `http://127.0.0.1:${port}`, ...part })
      return await s.engine.ownViews.of(s.destinationId)
    } finally {
      await registry.stop()
    }
  }
  it('is asked what it knows of this sender: connected, taken, rejected and why, quota', async () => {
    s = await scene('certificate')
    s.unit.limits.perDay = 1000
    s.change()
    await s.settled()
    s.unit.aliases.clear()
    s.change()
    await until(() => s.counts().rejected === 2, 'two to go aside')
    const view = await asked()
    expect(view).toMatchObject({ connected: true, taken: s.unit.taken, rejected: 2, today: s.unit.used.dayCount, perDay: 1000 })
    expect(Math.abs(Date.parse(view.lastAt!) - Date.now())).toBeLessThan(120_000)
    expect(view.refusals[0]).toMatchObject({ why: expect.stringMatching(/alias/), place: expect.stringContaining('zone-') })
    // To ask is no reason to connect anew.
    expect(s.hub.broker.greeted).toBe(1)
  })

  it.each<[string, Partial<HubSettings> | ((x: Scene) => Partial<HubSettings>), string]>([
    ['knows no such unit', (x) => ({ profile: { ...x.settings.profile, registryPath: '/api/units/other' } }), 'hub.registry-unknown'],
    ['answers by something else than JSON', (x) => ({ profile: { ...x.settings.profile, registryPath: '/' } }), 'hub.registry-form'],
    ['is not there', { registryUrl: 'http://127.0.0.1:1' }, 'port.refused'],
    ['is not named', { registryUrl: '' }, 'hub.registry-none'],
    ['is something else', (x) => ({ registryUrl: `https://127.0.0.1:${x.settings.port}` }), 'tls'],
  ])('that %s is told so', async (_, part, code) => {
    s = await scene('token')
    const failure = await asked(typeof part === 'function' ? part(s) : part).then(
      () => null,
      (e: unknown) => (e as FailureError).failure,
    )
    expect(failure?.code).toMatch(new RegExp(`^${code}`))
    expect(failure?.hint.length).toBeGreaterThan(10)
  })
})

it('two destinations with one identity at a hub: the second is refused with whose it is', async () => {
  s = await scene('token')
  const d = await getDestination(s.t.db, s.destinationId)
  await expect(addDestination(s.t.db, { ...d, name: 'Another' } as never)).rejects.toMatchObject({
    failure: { code: 'client-id.taken', fields: { 'settings.unit': expect.stringContaining('the destination Hub has this identity') } },
  })
})

it.each<[string, ShapeSettings['kind']]>([
  ['CBOR', 'cbor'],
  ['MessagePack', 'messagepack'],
])('what goes out as %s is read at the hub by a library of its own', async (_, kind) => {
  s = await scene('certificate', {}, 1, undefined, ShapeSettings.parse({ kind }))
  s.change()
  await s.settled()
  expect(JSON.stringify(s.hub.routing.rows[0]!.fields)).toMatch(/\d/)
  expect(s.hub.routing.rows[0]!.fields.value).toBeTypeOf('object')
  expect(s.hub.routing.unread).toBe(0)
})

it.each<[string, object, (s: Scene) => void, RegExp]>([
  ['too large for the profile', { payloadOctets: 5 }, () => undefined, /the hub takes 5/],
  ['an alias that nobody declared', {}, (x) => x.unit.aliases.clear(), /reason of its own/],
])('%s goes aside with the reason, and the others go on', async (_, profile, spoil, says) => {
  s = await scene('certificate', profile)
  await s.settled()
  const refused = s.counts().rejected
  spoil(s)
  s.change()
  await until(() => s.counts().rejected > refused, 'it to go aside')
  await s.settled()
  expect(s.counts()).toMatchObject({ missing: 0 })
  await until(async () => says.test(JSON.stringify(await listAsides(s.t.db, s.destinationId))), 'the reason')
})

it('what the hub hands down is received, told, and answered; a flood of it is answered too, and told in part', async () => {
  s = await scene('token')
  expect(s.hub.tell(s.unit, 'desired', { rate: 2 })).toBe(true)
  await until(() => s.unit.reported, 'an answer')
  expect(s.unit.reported).toMatchObject({ to: 'desired', value: expect.stringContaining('"status":501') })
  const told = async () => (await s.events('destination.asked')).map((e) => e.message)
  await until(async () => (await told()).includes('hands down desired: {"rate":2}'), 'the event')
  for (let i = 0; i < 100; i++) s.hub.tell(s.unit, `commands/${i}`, { valve: i })
  await until(() => (s.unit.reported as { to: string }).to === 'commands/99', 'all to be answered')
  s.change()
  await s.settled()
  expect((await told()).length).toBe(20)
  // An answer is no message of ours.
  expect(s.counts()).toMatchObject({ missing: 0, foreign: 0, doubled: 0 })
  agree()
})

it.each(['token', 'certificate'] as const)('a hub by %s whose clock is 7 minutes ahead: all is confirmed, and in time', async (by) => {
  s = await scene(by)
  s.hub.skewMs = 420_000
  s.hub.broker.endClient(UNIT, 0x8b)
  await s.up()
  for (let i = 0; i < 20; i++) s.change()
  await s.settled()
  expect(s.counts()).toMatchObject({ missing: 0, unknown: 0, late: 0, disordered: 0 })
  // One that went out just when the link ended goes out again.
  const { confirmed, doubled, produced } = s.counts()
  expect(confirmed + doubled).toBe(produced)
  // Messages told with the hub's own time lie ahead; that is no reason to read anything twice, or to leave anything out, after a new start.
  await s.again()
  await s.up()
  s.hub.skewMs = 0
  for (let i = 0; i < 20; i++) s.change()
  await s.settled()
  expect(s.counts()).toMatchObject({ missing: 0, unknown: 0, late: 0, foreign: 0 })
  agree()
})

it('a unit that is disabled waits with everything, and goes on when it is enabled', async () => {
  s = await scene('token')
  const still = s.feed(20)
  await until(() => s.counts().arrived > 50, 'messages to flow')
  s.hub.enable(s.unit, false)
  await until(() => s.destination().present().state === 'trouble' && s.destination().outbox.waiting > 20, 'messages to wait')
  s.hub.enable(s.unit, true)
  await s.up()
  still()
  await s.settled()
  expect(s.counts()).toMatchObject({ missing: 0, unknown: 0, rejected: 0 })
  agree()
})

it('events that cannot be read for a while make nothing missing', async () => {
  s = await scene('token')
  const still = s.feed(10)
  await until(() => s.counts().arrived > 100, 'messages to flow')
  s.stream.cut(3)
  await until(() => !s.destination().witness?.view(), 'the witness to be away')
  await s.up()
  still()
  await s.settled()
  expect(s.counts()).toMatchObject({ missing: 0, unknown: 0, rejected: 0 })
  agree()
})

/** Neither of the keys that were handed out is good any more. */
function rotatedTwice(x: Scene): void {
  x.hub.units.rotate(x.unit)
  x.hub.units.rotate(x.unit)
}

describe('its check', () => {
  const check = async () => {
    const last = new Map<string, CheckStep>()
    const draft = { id: s.destinationId, kind: 'hub' as const, name: 'Hub', enabled: true, settings: s.settings }
    for await (const step of s.engine.targets.checkDestination(draft)) last.set(step.key, step)
    return [...last.values()]
  }
  it('passes, and costs the hub nothing', async () => {
    s = await scene('token')
    s.change()
    await s.settled()
    const used = s.unit.used.dayCount
    const steps = await check()
    expect(steps.filter((step) => step.state !== 'passed')).toEqual([])
    expect(steps.map((step) => step.key)).toContain('events-witness')
    expect(s.unit.used.dayCount).toBe(used)
    // The one that sends is not thrown out by it, and when it is not there the log-in is tried.
    expect(s.hub.broker.greeted).toBe(1)
    await s.save({ window: 50 })
    s.settings.window = 50
    s.hub.broker.endClient(UNIT, 0x8b)
    expect((await check()).filter((step) => step.state !== 'passed')).toEqual([])
    await s.up()
  })

  it.each<[string, (x: Scene) => void, string, RegExp]>([
    ['a unit that is disabled', (x) => void (x.unit.enabled = false), 'login', /user or password/],
    ['a clock that is 2 hours ahead', (x) => void (x.hub.skewMs = 7_200_000), 'login', /user or password/],
    ['a key that was exchanged', rotatedTwice, 'login', /user or password/],
    ['a topic of events that is not there', (x) => void (x.settings.eventsTopic = 'other'), 'events-topics', /other/],
    ['a payload beyond the profile', (x) => void (x.settings.profile = { ...x.settings.profile, payloadOctets: 3 }), 'limits', /takes 3/],
  ])('finds %s at the right step', async (_, spoil, key, says) => {
    s = await scene('token')
    s.change()
    await s.settled()
    // It is not there when somebody looks why.
    spoil(s)
    s.hub.broker.endClient(UNIT, 0x8b)
    await until(() => s.hub.broker.connections.size === 0, 'it to be gone')
    const failed = (await check()).find((step) => step.state === 'failed')
    expect(failed?.key).toBe(key)
    expect(failed?.failure?.message).toMatch(says)
    if (key === 'login') expect(failed?.failure?.hint).toMatch(/clock is off by minutes: it is \d{4}-.* UTC here/)
    s.hub.skewMs = 0
  })
})
