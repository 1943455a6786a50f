import jsonwebtoken from 'jsonwebtoken'
import { afterEach, expect, it } from 'vitest'
import type { TokenRecipe } from '~/contract/token'
import { brokerUsers } from '~/standins/plant'
import { PlantProxy } from '~/standins/proxy'
import { addCredential } from '~/store/credential'
import type { Db } from '~/store/database'
import type { Vault } from '~/store/vault'
import { type SceneOptions, scene } from './scene'
import { freePort, startBroker, type TestBroker, until } from './support'

type Scene = Awaited<ReturnType<typeof scene>>
let s: Scene
const others: { stop(): Promise<void> }[] = []
afterEach(async () => {
  await s.end()
  await Promise.all(others.splice(0).map((one) => one.stop()))
})

const begin = async (o: SceneOptions) => {
  s = await scene(o)
  return s
}
const doors = async () => ({
  plain: await freePort(),
  tls: await freePort(),
  mutual: await freePort(),
  web: await freePort(),
  webTls: await freePort(),
})
const login = async (t: { db: Db; vault: Vault }, name: string, user: string, secret: string) =>
  (await addCredential(t.db, t.vault, { name, kind: 'password', certificate: null, facts: null, user, secret })).id
const byPassword = async (t: { db: Db; vault: Vault }) => ({
  credentialId: await login(t, 'log-in', 'embrik', 'clay-sender-1'),
  witnessCredentialId: await login(t, 'log-in of the witness', 'witness', 'clay-witness-2'),
})

/** Everything that was made arrived once, and in order. */
async function whole(n: number): Promise<void> {
  await until(() => s.counts()!.arrived >= n, 'messages to flow')
  await s.settled()
  const counts = s.counts()!
  expect(counts).toMatchObject({ missing: 0, unknown: 0, rejected: 0, disordered: 0, altered: 0, doubled: 0, foreign: 0 })
  expect(counts.arrived).toBe(counts.produced)
}

it.each([
  ['over a WebSocket', 'web', false],
  ['over a secure WebSocket', 'webTls', true],
] as const)('all arrives %s, also when that is cut', async (_, door, tls) => {
  await begin({
    ports: await doors(),
    prepare: async (t, b) => ({
      ...(await byPassword(t)),
      transport: 'websocket',
      headers: 'X-Works: Varnmoor',
      tls,
      port: b.ports[door]!,
    }),
  })
  const still = s.feed(2)
  await until(() => s.counts()!.arrived > 300, 'messages to flow')
  s.b.broker.cut(0.5)
  const before = s.counts()!.arrived
  await until(() => s.counts()!.arrived > before + 300, 'messages to flow again')
  still()
  await s.settled()
  const counts = s.counts()!
  expect(counts).toMatchObject({ missing: 0, unknown: 0, rejected: 0, disordered: 0, altered: 0, foreign: 0 })
  expect(counts.arrived).toBe(counts.produced)
  // A header of ours came with each request, and the subprotocol of MQTT.
  expect(s.b.broker.webRequests.length).toBeGreaterThanOrEqual(4)
  for (const said of s.b.broker.webRequests) expect(said).toMatchObject({ 'x-works': 'Varnmoor', 'sec-websocket-protocol': 'mqtt' })
})

it.each([
  ['HTTP', 'http', null],
  ['HTTP that asks who we are', 'http', { user: 'works', password: 'glaze:7' }],
  ['SOCKS 5', 'socks5', null],
  ['SOCKS 5 that asks who we are', 'socks5', { user: 'works', password: 'glaze:7' }],
] as const)('all arrives through a proxy, %s, which alone knows the name of the broker', async (_, scheme, who) => {
  const port = await freePort()
  await begin({
    prepare: async (t, b) => {
      // The name on its certificate is one that this machine resolves, the proxy another way.
      const names = { localhost: '127.0.0.1' }
      const proxy = await PlantProxy.start({ port, login: who, permits: [`localhost:${b.ports.mutual}`], names })
      others.push(proxy)
      return {
        host: 'localhost',
        port: b.ports.mutual,
        proxy: `${scheme}://127.0.0.1:${port}`,
        proxyCredentialId: who && (await login(t, 'proxy', who.user, who.password)),
      }
    },
  })
  const still = s.feed(2)
  await until(() => s.counts()!.arrived > 200, 'messages to flow')
  still()
  await whole(200)
  const [proxy] = others as [PlantProxy]
  expect(new Set(proxy.ways)).toEqual(new Set([`localhost:${s.b.ports.mutual}`]))
  expect(proxy.ways.length).toBeGreaterThanOrEqual(2)
})

it('a token is made anew ahead of its end, and the connection changed over under 500 messages a second: nothing is lost or doubled', async () => {
  const key = 'a key that both sides have: 32 octets'
  const tokens = new Set<string>()
  let ended = 0
  let connected = 0
  const recipe = { form: 'jwt', algorithm: 'HS256', keyAs: 'text', keyId: '', claims: 'sub: {identity}\naud: {host}\nexp: {ends}\njti: {random}' }
  const made = { ...recipe, lifetimeS: 6, marginS: 3 } as TokenRecipe
  await begin({
    ports: await doors(),
    broker: {
      logIn: ({ user, password, clientId }) => {
        try {
          const claims = jsonwebtoken.verify(password ?? '', key, { algorithms: ['HS256'], audience: '127.0.0.1' }) as { sub: string; exp: number }
          if (claims.sub !== clientId || user !== `${clientId}@127.0.0.1`) return 0x87
          tokens.add(password!)
          const mine = ++connected
          // As brokers do: who is still there when the token ends is thrown out.
          setTimeout(
            () => {
              for (const c of s.b.broker.connections) if (c.session?.clientId === clientId && mine === connected) ended++
            },
            claims.exp * 1000 - Date.now(),
          ).unref()
          return brokerUsers.find((u) => u.name === (clientId === 'sender' ? 'embrik' : 'witness'))!
        } catch {
          return 0x86
        }
      },
    },
    zones: 5,
    prepare: async (t, b) => {
      const kept = { kind: 'token' as const, certificate: null, facts: null, user: '{identity}@{host}', secret: key, recipe: made }
      const credentialId = (await addCredential(t.db, t.vault, { name: 'key', ...kept })).id
      return { credentialId, witnessCredentialId: credentialId, port: b.ports.tls }
    },
  })
  const still = s.feed(10)
  await until(
    () => tokens.size >= 8,
    () => `four renewals of both: ${tokens.size} tokens`,
    60,
  )
  still()
  await whole(2000)
  expect(ended).toBe(0)
  // What waits for its token would be told as trouble.
  expect((await s.events()).filter((e) => e.severity === 'trouble')).toEqual([])
})

/** A second broker of the works that knows nothing of the first. */
async function standBy(): Promise<TestBroker> {
  const b = await startBroker(undefined, { logLimit: Number.POSITIVE_INFINITY })
  others.push(b.broker)
  return b
}

/** Ids that a broker took from us. */
const taken = (b: TestBroker) => b.broker.truth.arrivals.flatMap((a) => (a.key === null ? [] : [a.key]))

it('goes to the stand-by when the first does not answer, and back when it does; what both brokers took is what the ledger says', async () => {
  const second = await standBy()
  await begin({ zones: 2, settings: { otherHosts: `127.0.0.1:${second.ports.mutual}`, returnS: 1, lateS: 5 } })
  const still = s.feed(5)
  await until(() => s.counts()!.arrived > 200, 'messages to flow')
  s.gate.cut(5)
  await until(() => taken(second).length > 300, 'messages at the stand-by')
  await until(() => s.destination().witness?.view(), 'the witness at the stand-by')
  await until(() => s.b.broker.connections.size === 2 && second.broker.connections.size === 0, 'both to be back', 60)
  const there = taken(s.b).length
  await until(() => taken(s.b).length > there + 200, 'messages at the first again')
  still()
  await s.settled()
  const counts = s.counts()!
  // None that a broker acknowledged is lost unsaid: it arrived, or is missing with what the first broker still holds for the witness.
  expect(counts.arrived + counts.missing + counts.unknown).toBe(counts.produced)
  const all = [...taken(s.b), ...taken(second)]
  expect(new Set(all).size).toBe(counts.produced)
  expect(counts).toMatchObject({ rejected: 0, disordered: 0, altered: 0, foreign: 0, missing: 0, unknown: 0 })
})

it('goes where the broker sends it, where that is one of its hosts', async () => {
  const second = await standBy()
  await begin({ settings: { otherHosts: `127.0.0.1:${second.ports.mutual}`, returnS: 0 } })
  const still = s.feed(5)
  await until(() => s.counts()!.arrived > 100, 'messages to flow')
  s.b.broker.sendElsewhere(`127.0.0.1:${second.ports.mutual}`, false)
  await until(() => taken(second).length > 100 && second.broker.connections.size === 2, 'both at the other')
  still()
  await s.settled()
  expect(s.counts()).toMatchObject({ rejected: 0, disordered: 0, altered: 0, missing: 0 })
})

it.each([
  ['follows to a server that it did not know, where it may', true],
  ['stays, and says where it was sent, where it may not', false],
] as const)('%s', async (_, redirects) => {
  const second = await standBy()
  await begin({ settings: { redirects } })
  s.b.broker.sendElsewhere(`127.0.0.1:${second.ports.mutual}`, true)
  s.change()
  if (redirects) {
    await until(() => taken(second).length > 0, 'a message at the other')
    await s.settled()
    return
  }
  await until(() => s.destination().present().state === 'trouble', 'trouble')
  expect(s.destination().present().reason).toContain(`127.0.0.1:${second.ports.mutual}`)
  expect(second.broker.greeted).toBe(0)
  s.b.broker.elsewhere = null
  await s.settled()
})

it('what was wished for is said when the sender is gone without a word, not when it ends, and not when it is back in time', async () => {
  const will = { willTopic: 'varnmoor/gone', willPayload: 'no word from the edge', willQos: '1', willRetain: true } as const
  await begin({ settings: { ...will, window: 99 } })
  const said = () => s.b.broker.retainedFor('varnmoor/gone')
  // An ordinary end: its settings change.
  await s.save({ window: 98 })
  await until(() => s.b.broker.greeted >= 3, 'the sender to connect anew')
  await s.up()
  expect(said()).toEqual([])
  const drop = () => {
    for (const c of s.b.broker.connections) if (c.session?.clientId === 'sender') c.drop()
  }
  drop()
  await until(() => said().length === 1, 'the will')
  expect(said()[0]).toMatchObject({ payload: Buffer.from('no word from the edge'), qos: 1, retain: true })
  // With a delay: back before it is over.
  await s.save({ willTopic: 'varnmoor/later', willDelayS: 2 })
  await s.up()
  await until(() => s.destination().present().state === 'running', 'the sender')
  const greeted = s.b.broker.greeted
  drop()
  await until(() => s.b.broker.greeted > greeted, 'the sender back')
  const began = performance.now()
  await until(() => performance.now() - began > 2500, 'its delay to be over')
  expect(s.b.broker.retainedFor('varnmoor/later')).toEqual([])
})

it('topics go by number where that is wished for, over lost links too, and are what they were', async () => {
  await begin({ zones: 30, settings: { aliases: 20 } })
  const still = s.feed(10)
  await until(() => s.counts()!.arrived > 1000, 'messages to flow')
  s.b.broker.cut(0.2)
  const before = s.counts()!.arrived
  await until(() => s.counts()!.arrived > before + 1000, 'messages to flow again')
  still()
  await s.settled()
  const counts = s.counts()!
  expect(counts).toMatchObject({ missing: 0, rejected: 0, disordered: 0, altered: 0, foreign: 0 })
  expect(counts.arrived).toBe(counts.produced)
  expect(new Set(s.b.broker.truth.arrivals.map((a) => a.topic)).size).toBe(30)
})

it('sender and witness together connect no more often than they may, however the link flaps', async () => {
  await begin({ settings: { connectsPerMin: 6 } })
  const still = s.feed(20)
  const flap = setInterval(() => s.gate.cut(0.05), 400)
  await until(() => s.destination().present().reason.includes('connects again in'), 'a wait')
  const began = performance.now()
  await until(() => performance.now() - began > 5000, 'five seconds of it')
  clearInterval(flap)
  expect(s.b.broker.greeted).toBeLessThanOrEqual(6)
  // Settings that let it go on are taken up at once.
  await s.save({ connectsPerMin: 0 })
  await s.up()
  still()
  await s.settled()
  expect(s.counts()).toMatchObject({ missing: 0, rejected: 0, altered: 0 })
})
