import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { newId } from '~/contract/id'
import type { PublicationDraft } from '~/contract/publication'
import { flatJsonSettings } from '~/contract/shape'
import type { Source } from '~/contract/source'
import type { FoundWay, HopState, WayHopName, WayOf } from '~/contract/way'
import { mqttAddress } from '~/core/address/kinds/mqtt'
import { waySentence } from '~/core/proof/way'
import { findWay } from '~/engine/way/find'
import { Gate } from '~/standins/gate'
import { FieldServer, noFieldFaults } from '~/standins/modbus/server'
import type { Unit } from '~/standins/modbus/units'
import { addClass } from '~/store/class'
import { editEquipment } from '~/store/equipment-edit'
import { freeze } from '~/store/freeze'
import { goLive, setRunning } from '~/store/going-live'
import { addPublication } from '~/store/publication-edit'
import { addSource, changeSource, getSource } from '~/store/source'
import { addTags } from '~/store/tag-edit'
import { breakable, full } from './breakable'
import { pause, scene } from './scene'
import { freePort, until } from './support'

// Faults planted one at each kind of hop, on real sockets: each is to be named, and gone when it is mended.

let w: Awaited<ReturnType<typeof world>>
beforeAll(async () => {
  w = await world()
})
afterAll(() => w?.end())

/** A device with four registers that change, behind a gate. */
async function device() {
  const inner = await freePort()
  const port = await freePort()
  const values = [200, 3, 1013, 7]
  const unit = (first: number): Unit => ({
    read: (area, offset) => (area === 'input' ? values[first + offset] : undefined),
    write: () => false,
    delay: () => 0,
  })
  const field = await FieldServer.start(inner, new Map([1, 2].map((n) => [n, unit(n === 1 ? 0 : 2)])))
  const gate = await Gate.open(port, inner)
  let stands = false
  const timer = setInterval(() => {
    if (!stands) values[0] = 200 + (Math.round(performance.now() / 100) % 500)
  }, 100)
  return {
    ...{ field, gate, port, values },
    still: (on: boolean) => {
      stands = on
    },
    async stop() {
      clearInterval(timer)
      await gate.close()
      await field.stop()
    },
  }
}

async function world() {
  const kiln = await device()
  const s = await scene({ databaseGate: true, settings: { lateS: 2, ackS: 5 } })
  const { db, vault } = s.t
  await breakable(db)
  const source = await addSource(db, vault, {
    ...{ name: 'Kiln controller', kind: 'modbus', enabled: true },
    settings: {
      ...{ host: '127.0.0.1', port: kiln.port, probeUnit: 1, notation: 'reference', gap: 8, maxRegisters: 100, writes: 'single' },
      ...{ timeoutMs: 2000, rateMs: 200, retryMs: 500 },
    },
  } as Parameters<typeof addSource>[2])
  const tag = (name: string, address: string) => ({ name, sourceId: source.id, address, dataType: 'number' as const })
  const tags = await addTags(db, [
    tag('Kiln/temp', '1 input@0'),
    tag('Kiln/mode', '1 input@1'),
    tag('Kiln/pressure', '2 input@0'),
    tag('Kiln/spare', '2 input@1'),
    tag('Kiln/gone', '1 input@99'),
  ])
  const [temp, mode, pressure, spare, gone] = tags.map((t) => t.id) as [string, string, string, string, string]
  const member = (key: string) => ({ id: key, key, label: key, dataType: 'number' as const })
  const cls = await addClass(db, { name: 'Kiln', members: [member('temp'), member('pressure'), member('share')] })
  const bound = (tagId: string) => ({ kind: 'tag' as const, tagId })
  const share = { kind: 'expression' as const, expression: { text: 'double(int(a) / int(b))', inputs: { a: bound(temp), b: bound(mode) } } }
  const bindings = { temp: bound(temp), pressure: bound(pressure), share }
  const top = await db.selectFrom('equipment').select('id').where('level', '=', 'enterprise').executeTakeFirstOrThrow()
  const unit = (name: string, of: Record<string, unknown>) => ({
    id: newId(),
    name,
    parentId: top.id,
    level: 'work unit' as const,
    classId: cls.id,
    bindings: of,
  })
  const units = [unit('Kiln 1', bindings), unit('Kiln 2', { ...bindings, pressure: bound(gone) })]
  await editEquipment(db, { add: units } as Parameters<typeof editEquipment>[1])
  const drafted = async (name: string, part: Partial<PublicationDraft> = {}, topic = `varnmoor/way/${name}/{unit}`) =>
    (
      await addPublication(db, {
        ...{ name, equipmentIds: [units[0]!.id], trigger: { kind: 'change' }, shape: flatJsonSettings, steersOnly: false },
        ...{ destinationId: s.destinationId, address: { ...mqttAddress.fresh, topic }, ...part },
      })
    ).id
  const live = async (name: string, part: Partial<PublicationDraft> = {}, topic?: string) => {
    const id = await drafted(name, part, topic)
    await goLive(db, id, 'test', freeze)
    return id
  }
  return {
    ...{ kiln, s, db, vault, source, temp, pressure, spare, units, drafted, live },
    changeSource: async (part: Partial<Source>) => {
      const { id, version, ...draft } = await getSource(db, source.id)
      await changeSource(db, vault, id, { ...draft, ...part } as Parameters<typeof changeSource>[3], version)
    },
    async end() {
      await s.end()
      await kiln.stop()
    },
  }
}

const look = async (of: WayOf, id: string): Promise<FoundWay | string> => findWay(w.s.engine, { of, id }).catch((e: unknown) => String(e))

/** Waits until the worst way says so, and gives it. */
function says(of: WayOf, id: string, hop: WayHopName | null, state: HopState | null, words: RegExp, seconds = 60) {
  let last: FoundWay | string = ''
  return until(
    async () => {
      last = await look(of, id)
      if (typeof last === 'string') return null
      const [way] = last.ways
      const there = way!.at === null ? null : way!.hops[way!.at]!
      return (there?.hop ?? null) === hop && (there?.state ?? null) === state && words.test(waySentence(way!)) ? way : null
    },
    () => `${hop} ${state} ${words} of ${typeof last === 'string' ? last : JSON.stringify(last.ways[0], null, 1)}`,
    seconds,
  )
}
const fine = (id: string, seconds?: number) => says('publication', id, null, null, /^Nothing is in the way/, seconds)

it('nothing is in the way of what arrives, asked for by publication, tag or destination', async () => {
  const id = await w.live('sound')
  await fine(id)
  await says('tag', w.temp, null, null, /^Nothing is in the way/)
  const found = await look('destination', w.s.destinationId)
  expect(typeof found === 'string' ? found : found.ways.map((x) => x.publication).sort()).toEqual(['p', 'sound'])
  const hops = typeof found === 'string' ? [] : found.ways.find((x) => x.publication === 'sound')!.hops
  expect(hops.map((h) => h.hop)).toEqual([
    'source',
    'tag',
    'member',
    'publication',
    'trigger',
    'message',
    'outbox',
    'connection',
    'destination',
    'witness',
  ])
  for (const h of hops) expect(h).toMatchObject({ state: 'fine', words: expect.stringMatching(/./) })
})

describe('at the device', () => {
  let id: string
  beforeAll(async () => {
    id = await w.live('of the device')
    await fine(id)
  })

  it('the source is switched off', async () => {
    await w.changeSource({ enabled: false })
    await says('publication', id, 'source', 'stops', /stops at the source Kiln controller: switched off/)
    await says('tag', w.temp, 'source', 'stops', /switched off/)
    await w.changeSource({ enabled: true })
    await fine(id)
  })

  it('the device cannot be reached', async () => {
    w.kiln.gate.cut(3600)
    await says('publication', id, 'source', 'stops', /stops at the source Kiln controller: /)
    w.kiln.gate.mend()
    await fine(id)
  })

  it('the device answers nothing but exceptions', async () => {
    w.kiln.field.faults = { ...noFieldFaults, exception: 4 }
    await says('publication', id, 'tag', 'stops', /Exception 4/)
    w.kiln.field.faults = { ...noFieldFaults }
    await fine(id)
  })

  it('one unit of it is silent', async () => {
    w.kiln.field.faults = { ...noFieldFaults, silentUnit: 2 }
    const way = await says('publication', id, 'tag', 'part', /A part of it stops at the tag Kiln\/pressure: 1 of 3 /)
    expect(way.hops[way.at!]).toMatchObject({ id: w.pressure, words: expect.stringContaining('does not answer') })
    await says('tag', w.pressure, 'tag', 'stops', /does not answer/)
    await says('tag', w.temp, null, null, /^Nothing/)
    w.kiln.field.faults = { ...noFieldFaults }
    await fine(id)
  })

  it('an address that the device does not have', async () => {
    const other = await w.live('of the other', { equipmentIds: [w.units[1]!.id] })
    await says('publication', other, 'tag', 'part', /Kiln\/gone.*Exception 2/)
  })

  it('an expression has no answer', async () => {
    w.kiln.values[1] = 0
    const way = await says('publication', id, 'member', 'part', /Kiln 1 share/)
    expect(way.hops[way.at!]!.hint).toContain('expression')
    w.kiln.values[1] = 3
    await fine(id)
  })

  it('a tag that fills nothing', async () => {
    await says('tag', w.spare, 'member', 'stops', /No member of any equipment is filled from it/)
  })
})

describe('at the publication', () => {
  it('it has never gone live, or is paused', async () => {
    const id = await w.drafted('a draft')
    await says('publication', id, 'publication', 'stops', /stops at the publication a draft: It has never gone live/)
    await goLive(w.db, id, 'test', freeze)
    await fine(id)
    await setRunning(w.db, id, false)
    await says('publication', id, 'publication', 'stops', /It is paused/)
    await setRunning(w.db, id, true)
    await fine(id)
  })

  it('a clause of it is switched off', async () => {
    const root = await w.live('with a clause')
    const clause = await w.drafted('the clause', { alsoOf: root, off: true }, 'varnmoor/way/clause/{unit}')
    await goLive(w.db, root, 'test', freeze)
    const way = await says('publication', root, 'publication', 'stops', /This clause is switched off/)
    expect(way.publicationId).toBe(clause)
  })

  it.each<[string, PublicationDraft['trigger'], RegExp]>([
    ['by hand only', { kind: 'hand' }, /It speaks by hand only/],
    ['a condition that does not hold', { kind: 'when', condition: 'temp > 100000.0', on: 'begin' }, /Its condition holds for none/],
    ['a schedule', { kind: 'schedule', cron: '0 0 1 1 *', zone: 'UTC' }, /By its schedule it speaks next in \d+ days/],
    ['equipment that joins', { kind: 'event', of: 'joined' }, /No equipment has joined/],
    ['a deadband that is too wide', { kind: 'change', deadband: { kind: 'absolute', size: 1e9 } }, /none has moved beyond its deadband/],
  ])('its trigger waits: %s', async (name, trigger, words) => {
    await says('publication', await w.live(name, { trigger }), 'trigger', 'waits', words)
  })

  it('a step holds back all, and one fails', async () => {
    const held = await w.live('held', { steps: [{ kind: 'keep', condition: 'temp > 100000.0', unknown: 'drop' }] })
    await says('publication', held, 'step', 'stops', /step 1 has held back all \d+ messages? that came to it/)
    const code = 'throw new Error("no such recipe")'
    const failing = await w.live('failing', { steps: [{ kind: 'script', code, gives: [] }] })
    await says('publication', failing, 'step', 'stops', /did not get through: step 1, Script: .*no such recipe/)
  })

  it('its message cannot be made', async () => {
    const id = await w.live('unmade')
    await fine(id)
    // Whatever a plan says can be made, as far as is known: an encoder that fails stands in for what is not.
    const { runner } = w.s.engine.publishers.get(id) as unknown as { runner: { encode: () => never } }
    runner.encode = () => {
      throw new Error('no octets')
    }
    await says('publication', id, 'message', 'stops', /can't be made: no octets/)
    await setRunning(w.db, id, false)
  })
})

describe('at the outbox', () => {
  let id: string
  beforeAll(async () => {
    id = await w.live('of the outbox')
    await fine(id)
  })

  it('the database is away', async () => {
    w.s.databaseGate!.cut(3600)
    await says('publication', id, 'outbox', 'stops', /stops at the outbox Database: The database is away/)
    w.s.databaseGate!.mend()
    await fine(id, 90)
  })

  it('the disk of the database is full', async () => {
    await full(w.db, true)
    await says('publication', id, 'outbox', 'stops', /The disk of the database is full/)
    await full(w.db, false)
    await fine(id)
  })
})

describe('at the destination', () => {
  /** A publication of its own, so that what became of others is not spoken of. */
  const fresh = async (name: string, topic?: string) => {
    const id = await w.live(name, {}, topic)
    if (topic === undefined) await fine(id)
    return id
  }

  it('it is switched off', async () => {
    const id = await fresh('off')
    await w.s.save({}, false)
    await says('publication', id, 'connection', 'stops', /stops at the connection Broker: switched off/)
    await says('destination', w.s.destinationId, 'connection', 'stops', /switched off/)
    await w.s.save({}, true)
    await fine(id)
  })

  it('the way to it is cut', async () => {
    const id = await fresh('cut')
    w.s.gate.cut(3600)
    const first = await says('publication', id, 'connection', 'stops', /stops at the connection Broker: /)
    const since = (way: typeof first) => way.hops[way.at!]!.since
    await pause(3000)
    // However often it was tried meanwhile.
    expect(since(await says('publication', id, 'connection', 'stops', /Broker/))).toBe(since(first))
    w.s.gate.mend()
    await fine(id)
  })

  it.each<[string, Parameters<Awaited<ReturnType<typeof scene>>['save']>[0], RegExp]>([
    ['its name means nothing', { host: 'no-such-host.invalid' }, /no-such-host\.invalid/],
    ['nobody listens at its port', { port: 1 }, /stops at the connection Broker/],
  ])('%s', async (name, settings, words) => {
    const id = await fresh(name)
    const { host, port } = w.s.settings
    await w.s.save(settings)
    await says('publication', id, 'connection', 'stops', words)
    await w.s.save({ host, port })
    await fine(id)
  })

  it('it refuses the log-in', async () => {
    const id = await fresh('refused')
    w.s.faults({ refuseLogins: true })
    w.s.b.broker.cut(0)
    await says('publication', id, 'connection', 'stops', /stops at the connection Broker/)
    w.s.faults({})
    await fine(id)
  })

  it('it does not allow the topic', async () => {
    await says('publication', await fresh('not allowed', 'elsewhere/{unit}'), 'destination', 'stops', /stops at the destination Broker/)
  })

  it('it takes messages and does not answer', async () => {
    const id = await fresh('unanswered')
    w.s.faults({ dropAcks: 1 })
    await says('publication', id, 'destination', 'part', /has not answered to a message for/)
    w.s.faults({})
    await fine(id)
  })

  it('it acknowledges what it passes to nobody', async () => {
    const id = await w.live('swallowed')
    w.s.faults({ swallow: 'way/swallowed' })
    await says('publication', id, 'witness', 'stops', /were acknowledged and did not arrive/)
    w.s.faults({})
    await fine(id, 120)
  })

  it('a part is lost behind the acknowledgement, or altered', async () => {
    const lossy = await fresh('lossy')
    w.s.faults({ drop: 0.3, seed: 7 })
    await says('publication', lossy, 'witness', 'part', /^A part of it stops at the far end.*did not arrive/)
    w.s.faults({ alter: 0.5, seed: 7 })
    const altered = await w.live('altered')
    await says('publication', altered, 'witness', 'part', /arrived with another payload/)
    w.s.faults({})
  })

  it('the witness is not allowed to read, or there is none', async () => {
    const id = await fresh('unread')
    const { witnessCredentialId } = w.s.settings
    await w.s.save({ witnessCredentialId: null })
    await says('publication', id, 'witness', 'unknown', /nobody can say what arrives/i)
    await w.s.save({ witnessCredentialId })
    await fine(id, 120)
    await w.s.save({ witness: false })
    await says('publication', id, 'witness', 'unknown', /nobody reads the far end/)
    await w.s.save({ witness: true })
    await fine(id)
  })
})
