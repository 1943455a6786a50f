import { sql } from 'kysely'
import type { Clocks, PeerClock } from '~/contract/clock'
import { offsetMeaning, offsetOf, type PeerTime } from '~/core/proof/peer-time'
import type { NamedClock } from '~/core/publication/preflight/clock-findings'
import type { Engine } from './engine'

/** The clocks of all peers that tell their time, beside that of this machine. */
export async function clocksOf(engine: Engine): Promise<Clocks> {
  const peers: PeerClock[] = []
  const silent: Clocks['silent'] = []
  const add = (kind: PeerClock['kind'], id: string | null, name: string, told: PeerTime) =>
    peers.push({ kind, id, name, how: told.how, ...offsetOf(told), at: told.answered })
  const ask = (kind: 'source' | 'destination', id: string, name: string, told: PeerTime | null | undefined) => {
    if (told) add(kind, id, name, told)
    else
      silent.push({
        kind,
        id,
        name,
        why: told === undefined ? 'it tells no time, or is not asked for it' : 'it has told none yet, or is not connected',
      })
  }
  const database = await databaseTime(engine)
  if (database) add('database', null, 'Database', database)
  for (const { kind, id, name, told } of peersOf(engine)) ask(kind, id, name, told)
  return { at: engine.clock.wall(), peers: peers.sort((a, b) => Math.abs(b.offsetMs) - Math.abs(a.offsetMs)), silent }
}

interface Peer {
  kind: 'source' | 'destination'
  id: string
  name: string
  told: PeerTime | null | undefined
}

function peersOf({ sources, destinations }: Engine): Peer[] {
  const of = [...sources].map(([id, s]): Peer => ({ kind: 'source', id, name: s.source.name, told: s.peerTime() }))
  const to = [...destinations].filter(([, d]) => d.destination.parentId === null)
  return [...of, ...to.map(([id, d]): Peer => ({ kind: 'destination', id, name: d.destination.name, told: d.peerTime() }))]
}

/** Clocks of sources and destinations that are seen to be out of step with ours. */
export const clocksOff = (engine: Engine): NamedClock[] =>
  peersOf(engine)
    .flatMap(({ kind, id, name, told }) => (told ? [{ kind, id, name, ...offsetOf(told) }] : []))
    .filter((c) => offsetMeaning(c).state !== 'good')

/** What the database says that time it is; null: it cannot be asked. */
async function databaseTime({ options: { db }, clock, storeState }: Engine): Promise<PeerTime | null> {
  if (storeState.trouble !== null) return null
  const asked = clock.wall()
  const since = clock.mono()
  const { rows } = await sql<{ theirs: number }>`select extract(epoch from clock_timestamp())::float8 * 1000 as theirs`.execute(db)
  return { theirs: Number(rows[0]!.theirs), asked, answered: asked + clock.mono() - since, cutMs: 0, how: 'time of its server' }
}
