import type { Socket } from 'node:dgram'
import { type CheckStep, fail } from '~/contract/failure'
import { realClock } from '../../clock/real-clock'
import { runSteps, type StepPlan } from '../../net/steps'
import type { DestinationTarget, PlannedSend } from '../driver'
import { meaningOf } from './answers'
import { heardAt } from './far-end'
import { probe } from './probe'
import { type Interface, interfaceOf, interfaces, listening, sending, spotOf } from './sockets'

/** So many groups and hosts are tried at most. */
const PLACES = 20
/** A machine where nobody listens says so within this, ms. */
const REFUSED_MS = 300
/** A probe that does not come back within this does not come back, ms. */
const BACK_MS = 2000

type Target = DestinationTarget<'datagram'>

const nap = (ms: number) => new Promise<void>((done) => void realClock.after(ms, done))

function interfaceWords(via: Interface | null): string {
  if (via === null)
    return `as this machine routes; it has ${interfaces()
      .map((i) => i.name)
      .join(', ')}`
  return `${via.name} has ${[via.v4, via.v6].filter(Boolean).join(' and ') || 'no address'}`
}

/** Sends a datagram that holds nothing, and hears whether somebody says that nobody listens. */
async function tried(target: Target, place: string): Promise<Buffer> {
  const octets = probe()
  try {
    const spot = await spotOf(place)
    const socket = await sending(spot, interfaceOf(target.settings.from), target.settings.hops, !spot.group)
    await new Promise<void>((done, failed) => {
      socket.on('error', failed)
      const sent = (e: Error | null) => (e ? failed(e) : spot.group ? done() : void realClock.after(REFUSED_MS, done))
      if (spot.group) socket.send(octets, spot.port, spot.address, sent)
      else socket.send(octets, sent)
    }).finally(() => socket.close())
    return octets
  } catch (e) {
    const { failure } = meaningOf(e, place)
    throw fail(502, failure.code, failure.message, failure.hint, 'destination')
  }
}

async function ways(target: Target, places: readonly string[]): Promise<string> {
  const open: string[] = []
  for (const place of places) {
    await tried(target, place)
    if (!(await spotOf(place)).group) open.push(place)
  }
  const all = places.length === 1 ? places[0]! : `${places.length} groups and hosts`
  return `a datagram that holds nothing went to ${all}${open.length > 0 ? '; nobody there said that nobody listens' : ''}. Nobody acknowledges datagrams`
}

async function back(target: Target, places: readonly string[]): Promise<string> {
  const { settings: s } = target
  const none = places.filter((place) => heardAt(place, s.relays) === null)
  if (none.length > 0)
    throw fail(
      502,
      'datagram.unheard',
      `${none[0]} is one machine: nobody else gets what goes there`,
      'Send to a group, name where it is handed on to, or do without the witness',
      'witness',
    )
  const began = realClock.mono()
  for (const place of places) await returns(target, place, heardAt(place, s.relays)!)
  return `joined ${places.length === 1 ? places[0] : `${places.length} groups`}; what was sent came back, ${Math.max(1, Math.round((realClock.mono() - began) / places.length))} ms each`
}

/** Whether a probe to a place is heard where the witness listens. */
async function returns(target: Target, place: string, where: string): Promise<void> {
  const { settings: s } = target
  let socket: Socket
  try {
    socket = await listening(await spotOf(where), interfaceOf(s.witnessFrom || s.from))
  } catch (e) {
    const { failure } = meaningOf(e, where, 'witness')
    throw fail(502, failure.code, failure.message, failure.hint, 'witness')
  }
  try {
    const heard: Buffer[] = []
    socket.on('error', () => undefined)
    socket.on('message', (octets) => heard.push(octets))
    const sent = await tried(target, place)
    const end = realClock.mono() + BACK_MS
    while (!heard.some((h) => h.equals(sent))) {
      if (realClock.mono() > end)
        throw fail(
          502,
          'datagram.not-back',
          `What was sent to ${place} was not heard at ${where} within ${BACK_MS / 1000} s`,
          where === place
            ? 'Name the network interface on which receivers are; raise the hops where routers lie in between; a switch that looks at groups (IGMP snooping) needs somebody who asks for them'
            : 'Does the relay run, and does it hand on to there?',
          'witness',
        )
      await nap(20)
    }
  } finally {
    socket.close()
  }
}

/** Tries everything in order, the witness too; what it sends holds nothing, and is from a publisher whom nobody listens to. */
export async function* checkDatagram(target: Target, sends: readonly PlannedSend[]): AsyncGenerator<CheckStep> {
  const { settings: s } = target
  const places = [...new Set(sends.map((send) => send.topic))].slice(0, PLACES)
  const steps: StepPlan[] = [
    { key: 'interface', label: 'Interface', run: async () => interfaceWords(interfaceOf(s.from)) },
    ...(places.length > 0 ? [{ key: 'way', label: 'Way', run: () => ways(target, places) }] : []),
    ...(sends.some((send) => send.bytes !== null) ? [{ key: 'size', label: 'Size', run: async () => sizes(sends, s.mostOctets) }] : []),
    ...(s.witness
      ? [
          {
            key: 'witness',
            label: 'Witness',
            run: async () =>
              places.length > 0
                ? back(target, places)
                : `${interfaceWords(interfaceOf(s.witnessFrom || s.from))}; it joins groups when publications name them`,
          },
        ]
      : []),
  ]
  yield* runSteps(steps, (e) => meaningOf(e, 'datagrams').failure)
}

function sizes(sends: readonly PlannedSend[], most: number): string {
  const largest = sends.reduce((a, b) => ((b.bytes ?? 0) > (a.bytes ?? 0) ? b : a))
  if ((largest.bytes ?? 0) > most)
    throw fail(
      502,
      'datagram.size',
      `Messages of ${largest.publication} have ${largest.bytes} octets, a datagram ${most} at most`,
      'Send one message for each equipment, or fewer members; a larger limit has the network send them in pieces',
      'destination',
    )
  return `the largest of late has ${largest.bytes} octets of ${most}`
}
