import { createSocket, type Socket } from 'node:dgram'
import { afterEach, expect, it } from 'vitest'
import { DatagramSettings } from '~/contract/destinations/datagram'
import type { CheckStep, Failure } from '~/contract/failure'
import { pubsubUadp } from '~/core/shape/pubsub-uadp'
import { checkDatagram } from '~/engine/destinations/datagram/check'
import { isProbe } from '~/engine/destinations/datagram/probe'
import { RelayFaults } from '~/standins/relay/faults'
import { Relay } from '~/standins/relay/relay'

// What goes wrong with datagrams at a check, each by a real socket.

const LOCAL = '127.0.0.1'
const GROUP = '239.192.77.9'
const open: { stop(): unknown }[] = []
afterEach(async () => {
  for (const one of open.splice(0).reverse()) await one.stop()
})

async function bound(address: string, o: { port?: number; shares?: boolean } = {}): Promise<{ socket: Socket; port: number }> {
  const socket = createSocket({ type: 'udp4', reuseAddr: o.shares ?? false })
  await new Promise<void>((done) => socket.bind({ address, port: o.port ?? 0 }, done))
  open.push({ stop: () => socket.close() })
  return { socket, port: socket.address().port }
}

async function freePort(): Promise<number> {
  const { port } = await bound(LOCAL)
  await open.pop()!.stop()
  return port
}

async function check(places: readonly string[], part: Partial<DatagramSettings> = {}, bytes = 100) {
  const settings = DatagramSettings.parse({ from: LOCAL, retryMs: 1000, witness: false, outboxMb: 50, lateS: 10, ...part })
  const target = { id: null, name: 'Hall', settings, authority: null, credential: null, witnessCredential: null }
  const steps = new Map<string, CheckStep>()
  const sends = places.map((topic) => ({ publication: 'Kiln', topic, assurance: 'sent' as const, kept: false, bytes }))
  for await (const step of checkDatagram(target, sends)) steps.set(step.key, step)
  const failed = [...steps.values()].find((s) => s.state === 'failed')
  return { steps, said: failed ? `${failed.key}: ${failed.failure!.code}` : 'passed', failure: failed?.failure }
}

async function relay(faults: Partial<RelayFaults> = {}) {
  const groupPort = await freePort()
  const made = await Relay.start({ port: 0, group: GROUP, groupPort })
  open.push(made)
  made.setFaults(RelayFaults.parse(faults))
  const place = `${LOCAL}:${made.port}`
  return { relay: made, place, relays: `${place} > ${GROUP}:${groupPort}` }
}

it('passes step by step where everything is in order, and sends nothing that anybody could take for data', async () => {
  const port = await freePort()
  const { socket } = await bound(GROUP, { port, shares: true })
  socket.addMembership(GROUP, LOCAL)
  const heard: Buffer[] = []
  socket.on('message', (octets) => heard.push(octets))
  const { steps, said } = await check([`${GROUP}:${port}`], { witness: true })
  expect(said).toBe('passed')
  expect([...steps.values()].map((s) => s.detail)).toEqual([
    expect.stringMatching(/^lo has 127\.0\.0\.1/),
    `a datagram that holds nothing went to ${GROUP}:${port}. Nobody acknowledges datagrams`,
    'the largest of late has 100 octets of 1472',
    expect.stringMatching(new RegExp(`^joined ${GROUP}:${port}; what was sent came back, \\d+ ms each$`)),
  ])
  expect(heard.length).toBeGreaterThan(0)
  const scope = { equipment: [], places: [], publicationId: '', version: 1 }
  const decode = pubsubUadp.decoder({} as never, scope)
  for (const octets of heard) {
    expect(isProbe(octets)).toBe(true)
    expect(decode(octets)).toMatchObject({ problem: 'It does not say whose data it holds' })
  }
})

it('passes before any publication goes there, and over a relay', async () => {
  expect((await check([], { witness: true })).said).toBe('passed')
  const r = await relay()
  expect((await check([r.place], { witness: true, relays: r.relays })).said).toBe('passed')
})

it('tells apart what goes wrong, each with its words and what to do', async () => {
  const nobody = `${LOCAL}:${await freePort()}`
  const port = await freePort()
  const taken = (await bound(GROUP)).port
  const one = await bound(LOCAL)
  const deaf = await relay({ deaf: true })
  const lost = await relay({ drop: 1 })
  const changed = await relay({ alter: 1 })
  const cases: [what: string, of: ReturnType<typeof check>, said: string, words: string][] = [
    [
      'an interface that is none',
      check([`${GROUP}:${port}`], { from: 'eth-none' }),
      'interface: datagram.no-interface',
      'no network interface eth-none',
    ],
    ['a name that nobody knows', check(['no-such-host.invalid:4840']), 'way: datagram.name', 'no-such-host.invalid:4840: '],
    ['no place', check(['kiln/state']), 'way: datagram.place', 'no group or host with a port'],
    ['an address of the link', check(['169.254.169.254:80']), 'way: address.refused', 'is refused'],
    ['everybody', check(['255.255.255.255:4840']), 'way: address.refused', 'is refused'],
    ['everybody of a network', check(['127.255.255.255:4840']), 'way: datagram.broadcast', 'address of everybody'],
    ['another network', check(['198.51.100.7:4840']), 'way: datagram.no-way', 'no way there from that interface'],
    ['nobody who listens', check([nobody]), 'way: datagram.nobody', 'nobody listens there'],
    ['messages that are too large', check([`${GROUP}:${port}`], {}, 5000), 'size: datagram.size', '5000 octets, a datagram 1472 at most'],
    [
      'one machine, and a witness',
      check([`${LOCAL}:${one.port}`], { witness: true }),
      'witness: datagram.unheard',
      'nobody else gets what goes there',
    ],
    [
      'a witness by no interface',
      check([`${GROUP}:${port}`], { witness: true, witnessFrom: 'eth-none' }),
      'witness: datagram.no-interface',
      'eth-none',
    ],
    ['a port that somebody has for himself', check([`${GROUP}:${taken}`], { witness: true }), 'witness: datagram.port', 'has the port for himself'],
    ['a deaf relay', check([deaf.place], { witness: true, relays: deaf.relays }), 'witness: datagram.not-back', 'was not heard'],
    ['a relay that drops', check([lost.place], { witness: true, relays: lost.relays }), 'witness: datagram.not-back', 'was not heard'],
    ['a relay that alters', check([changed.place], { witness: true, relays: changed.relays }), 'witness: datagram.not-back', 'was not heard'],
  ]
  const hints = new Set<string>()
  for (const [what, of, said, words] of cases) {
    const done = await of
    expect(done.said, what).toBe(said)
    const { message, hint } = done.failure as Failure
    expect(message, what).toContain(words)
    expect(hint.length, what).toBeGreaterThan(5)
    hints.add(hint)
  }
  expect(hints.size).toBeGreaterThan(9)
})
