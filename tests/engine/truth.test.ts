import { connect } from 'node:net'
import { sql } from 'kysely'
import mqtt, { type Packet } from 'mqtt-packet'
import { describe, expect, it } from 'vitest'
import { listAsides } from '~/store/aside'
import { publishedDraft } from './drafts'
import { publish } from './plant'
import { pause, scene } from './scene'
import { until } from './support'

// Faults that nobody planned, on real sockets: each once made the ledger lie, lose, or stand still.

/** Sends messages at QoS 2 under the identifiers 1 to `n` and goes when the broker has them, without letting it forget that. */
async function leaveHalfWay(port: number, clientId: string, n: number): Promise<void> {
  const socket = connect(port, '127.0.0.1')
  const parser = mqtt.parser({ protocolVersion: 5 })
  const say = (p: Packet) => socket.write(mqtt.generate(p, { protocolVersion: 5 }))
  let received = 0
  parser.on('packet', (p) => {
    if (p.cmd === 'pubrec') received++
    if (p.cmd !== 'connack') return
    for (let messageId = 1; messageId <= n; messageId++)
      say({ cmd: 'publish', topic: 'varnmoor/elsewhere', payload: String(messageId), qos: 2, dup: false, retain: false, messageId })
  })
  socket.on('data', (octets) => parser.parse(octets))
  say({
    cmd: 'connect',
    clientId,
    clean: false,
    protocolId: 'MQTT',
    protocolVersion: 5,
    keepalive: 30,
    username: 'embrik',
    password: Buffer.from('clay-sender-1'),
    properties: { sessionExpiryInterval: 600 },
  })
  await until(() => received === n, 'the broker has all of them')
  socket.destroy()
}

describe.concurrent('the ledger is true', () => {
  it('a destination is saved six times under load: nothing twice, nothing missing, nobody accused', async () => {
    const s = await scene({ zones: 20 })
    const stop = s.feed(20)
    for (const [i, part] of [{ lateS: 31 }, { lateS: 32 }, { window: 50 }, { keepAliveS: 20 }, { lateS: 33 }, { outboxMb: 60 }].entries()) {
      await pause(400)
      await s.save(part)
      expect(i).toBeLessThan(6)
    }
    await pause(1500)
    stop()
    await s.settled()
    const c = s.counts()!
    expect(c).toMatchObject({ doubled: 0, missing: 0, foreign: 0, unknown: 0, arrived: c.produced })
    expect(c.produced).toBeGreaterThan(1500)
    expect(s.b.broker.truth.arrivals.length).toBe(c.produced)
    await s.end()
  })

  it('the broker takes 6 s to answer to a subscription: what it hands out before is unknown or confirmed, never missing', async () => {
    const s = await scene({ settings: { lateS: 1 } })
    s.faults({ subackMs: 6000 })
    const stop = s.feed(50)
    await publishedDraft(s.t, s.publicationId, { address: { topic: 'varnmoor/two/{unit}' } })
    let worst = 0
    for (let i = 0; i < 90; i++) {
      await pause(100)
      worst = Math.max(worst, s.counts()!.missing)
    }
    stop()
    await s.settled()
    expect(worst).toBe(0)
    expect(s.counts()!.missing).toBe(0)
    await s.end()
  })

  it('four versions with new topics while the link is cut: each topic is read back', async () => {
    const s = await scene({ settings: { lateS: 1 } })
    // All of it while the link is cut, however slow this machine is.
    s.gate.cut(600)
    for (let n = 0; n < 4; n++) {
      await publishedDraft(s.t, s.publicationId, { address: { topic: `varnmoor/v${n}/{unit}` } })
      await until(() => s.engine.publishers.get(s.publicationId)!.plan.messages[0]!.place === `varnmoor/v${n}/zone-1`, `version ${n}`)
      s.change(5)
    }
    s.gate.mend()
    await s.settled()
    const c = s.counts()!
    expect(c).toMatchObject({ missing: 0, unknown: 0, arrived: c.produced })
    await s.end()
  })

  it('a version with new topics goes live while the witness says again what it listens to: its topics are read back', async () => {
    const s = await scene({ settings: { lateS: 1 } })
    s.faults({ subackMs: 1500 })
    const { truth, asked } = s.b.broker
    s.gate.cut(0.1)
    // The broker has been asked, and has not answered yet.
    await until(() => s.b.broker.asked > asked, 'the witness to ask again')
    await publishedDraft(s.t, s.publicationId, { address: { topic: 'varnmoor/two/{unit}' } })
    await until(() => s.engine.publishers.get(s.publicationId)!.plan.number === 2, 'the new version')
    s.faults({})
    s.change(5)
    await s.settled()
    expect(truth.arrivals.filter((a) => a.topic === 'varnmoor/two/zone-1').length).toBeGreaterThanOrEqual(5)
    expect(s.counts()).toMatchObject({ missing: 0, unknown: 0, arrived: s.counts()!.produced })
    await s.end()
  })

  it.each([['half-open, from the broker'], ['1 kB/s']])('a link that is %s: nothing is called missing at any moment', async (how) => {
    const s = await scene({ settings: { lateS: 1, keepAliveS: 5 }, zones: 5 })
    let worst = 0
    const look = setInterval(() => {
      worst = Math.max(worst, s.counts()!.missing)
    }, 20)
    const stop = s.feed(50)
    // What is sent before the first subscription is acknowledged may end as unknown: the fault begins after that.
    await until(() => s.counts()!.arrived > 0, 'the first one is read back')
    if (how === '1 kB/s') s.gate.bytesPerS = 1000
    else s.gate.deaf.down = true
    await pause(7000)
    stop()
    s.gate.bytesPerS = null
    s.gate.deaf.down = false
    await s.settled(90)
    clearInterval(look)
    expect(worst).toBe(0)
    expect(s.counts()).toMatchObject({ missing: 0, arrived: s.counts()!.produced })
    expect(await s.events('ledger.missing')).toEqual([])
    await s.end()
  })

  it('a new version goes live while tags change: every change is in a message of the old or the new one', async () => {
    const s = await scene({ settings: { lateS: 30 } })
    s.faults({ subackMs: 1500 })
    const stop = s.feed(10)
    await pause(500)
    await publishedDraft(s.t, s.publicationId, { address: { topic: 'varnmoor/two/{unit}' } })
    await until(() => s.engine.publishers.get(s.publicationId)!.plan.number === 2, 'the new version')
    await pause(500)
    stop()
    const changes = s.change()
    await s.settled()
    // The new version says first what is known already.
    expect(s.counts()!.produced).toBe(changes + 1)
    await s.end()
  })

  it('a broker that hands out ten at a time is read as fast as it can, and nothing is missing', async () => {
    const s = await scene({ settings: { lateS: 2 }, zones: 50 })
    s.faults({ inFlight: 10 })
    let worst = 0
    const look = setInterval(() => {
      worst = Math.max(worst, s.counts()!.missing)
    }, 20)
    const stop = s.feed(50)
    await pause(6000)
    stop()
    await s.settled(240)
    clearInterval(look)
    const c = s.counts()!
    expect(c.produced).toBeGreaterThan(1000)
    expect(worst).toBe(0)
    expect(c).toMatchObject({ missing: 0, doubled: 0, arrived: c.produced })
    await s.end()
  })

  it('repetitions under new identifiers, and an older session after a kill: nothing doubled, nothing foreign', async () => {
    const s = await scene({ zones: 20 })
    s.faults({ renumber: true })
    const stop = s.feed(20)
    await until(() => s.counts()!.arrived > 0, 'the first one is read back')
    for (let i = 0; i < 3; i++) {
      await pause(700)
      for (const c of s.b.broker.connections) if (c.session?.clientId === s.settings.witnessClientId) c.drop()
    }
    await s.up()
    s.faults({})
    const older = s.b.broker.remember()
    await pause(1000)
    stop()
    await s.settled()
    s.b.broker.comeBackWith(older)
    await pause(1500)
    await s.up()
    await pause(1000)
    await s.settled()
    expect(s.counts()).toMatchObject({ doubled: 0, foreign: 0, missing: 0, arrived: s.counts()!.produced })
    await s.end()
  })

  it('a broker that still holds identifiers of QoS 2 from another life takes what never went out, and only once', async () => {
    const s = await scene({ still: true, publication: { qos: 2 } })
    await leaveHalfWay(s.b.ports.plain, s.settings.clientId, 8)
    await s.engine.start()
    await s.up()
    const stop = s.feed(20)
    await until(() => s.counts()!.produced > 20, 'more messages than identifiers held')
    stop()
    await s.settled()
    const c = s.counts()!
    expect(c).toMatchObject({ missing: 0, unknown: 0, doubled: 0, arrived: c.produced })
    expect(s.b.broker.truth.arrivals.filter((a) => a.topic.startsWith('varnmoor/one/')).length).toBe(c.produced)
    await s.end()
  })

  it('one filter that the broker refuses is lost alone, and said', async () => {
    const s = await scene({ settings: { lateS: 1 } })
    s.faults({ refuseFilter: 'secret' })
    const other = await publish(s.t.db, {
      destinationId: s.destinationId,
      equipmentIds: s.equipmentIds,
      name: 'other',
      topic: 'varnmoor/secret/{unit}',
    })
    await until(() => s.engine.publishers.has(other), 'the other')
    for (let i = 0; i < 20; i++) {
      s.change()
      await pause(20)
    }
    await s.settled()
    await s.settled(60, other)
    expect(s.counts()).toMatchObject({ unknown: 0, missing: 0, arrived: s.counts()!.produced })
    expect(s.counts(other)).toMatchObject({ missing: 0, arrived: 0, unknown: s.counts(other)!.produced })
    expect((await s.events('witness.refused'))[0]?.message).toContain('varnmoor/secret')
    expect(s.destination().witness!.present()).toMatchObject({ state: 'running', reason: expect.stringContaining('varnmoor/secret') })
    await s.end()
  })

  it('a link that holds and takes nothing is told as trouble, with the reason, until something is taken', async () => {
    const s = await scene()
    s.faults({ maximumPacketSize: 40 })
    s.b.broker.cut(0.1)
    await pause(300)
    await until(() => s.destination().witness?.view(), 'the witness to be back')
    await until(() => {
      s.change()
      return s.destination().present().reason.startsWith('takes nothing')
    }, 'it to be told')
    expect(s.destination().present()).toMatchObject({ state: 'trouble', reason: expect.stringContaining('the broker takes 40') })
    s.faults({})
    s.b.broker.cut(0.1)
    await until(() => {
      s.change()
      return s.destination().present().state === 'running' && s.counts()!.acknowledged > 0
    }, 'it to take messages again')
    await s.settled()
    expect(s.counts()).toMatchObject({ missing: 0, arrived: s.counts()!.produced - s.counts()!.rejected })
    await s.end()
  })

  it('messages that the broker is known not to take go aside, each with its reason, and the others go on', async () => {
    const s = await scene()
    const kinds = {
      large: { topic: 'varnmoor/large/{unit}', shape: { body: `{"n":\${n},"long":"${'x'.repeat(3000)}"}` } },
      twice: { topic: 'varnmoor/twice/{unit}', qos: 2 as const },
      kept: { topic: 'varnmoor/kept/{unit}', retain: true },
    }
    s.faults({ maximumPacketSize: 2000, maximumQos: 1, retainAvailable: false })
    s.b.broker.cut(0.1)
    await pause(300)
    await s.up()
    const ids: Record<string, string> = {}
    for (const [name, { shape, ...part }] of Object.entries(kinds).map(([k, v]) => [k, { shape: undefined, ...v }] as const))
      ids[name] = await publish(s.t.db, {
        destinationId: s.destinationId,
        equipmentIds: s.equipmentIds,
        name,
        ...part,
        ...(shape && { shape: { kind: 'template', form: 'json', per: 'equipment', body: shape.body, compression: 'none', bad: 'marked' } as never }),
      })
    await until(() => Object.values(ids).every((id) => s.engine.publishers.has(id)), 'all to be live')
    for (let i = 0; i < 5; i++) {
      s.change()
      await pause(30)
    }
    await s.settled()
    expect(s.counts()).toMatchObject({ rejected: 0, arrived: s.counts()!.produced })
    for (const [name, code] of [
      ['large', 'mqtt.size'],
      ['twice', 'mqtt.qos'],
      ['kept', 'mqtt.retain'],
    ] as const) {
      await s.settled(30, ids[name])
      expect(s.counts(ids[name]), name).toMatchObject({ rejected: s.counts(ids[name])!.produced, missing: 0 })
      const asides = await until(async () => {
        const rows = await sql<{ n: number; octets: number }>`
          select count(*)::int as n, max(length(payload)) as octets from aside where code = ${code}`.execute(s.t.db)
        return rows.rows[0]!.n >= s.counts(ids[name])!.produced ? rows.rows[0] : null
      }, `those of ${name} to be kept`)
      expect(asides.octets).toBeGreaterThan(5)
      const listed = await listAsides(s.t.db, s.destinationId)
      expect(listed.find((a) => a.code === code)).toMatchObject({ publication: name, topic: `varnmoor/${name}/zone-1` })
    }
    expect((await s.events()).filter((e) => e.code === 'destination.silent' || e.code === 'mqtt.disconnect-149')).toEqual([])
    await s.end()
  })

  it('a message on which the broker hangs up goes aside after three tries; neighbours wait, come once each, and go on', {
    timeout: 300_000,
  }, async () => {
    const s = await scene({ settings: { window: 10 } })
    s.faults({ hangUpOn: 'bad' })
    const bad = await publish(s.t.db, { destinationId: s.destinationId, equipmentIds: s.equipmentIds, name: 'bad', topic: 'varnmoor/bad/{unit}' })
    await until(() => s.engine.publishers.has(bad), 'the bad one')
    for (let i = 0; i < 10; i++) {
      s.change()
      await pause(20)
    }
    await s.settled(120)
    await s.settled(120, bad)
    expect(s.counts(bad)).toMatchObject({ rejected: s.counts(bad)!.produced })
    expect(s.counts()).toMatchObject({ rejected: 0, missing: 0, arrived: s.counts()!.produced })
    expect((await s.events('destination.hangs-up'))[0]?.message).toContain('varnmoor/bad')
    await s.end()
  })

  it('a quota that is used up is waited for, said once, and nothing is lost', async () => {
    const s = await scene()
    s.faults({ quota: true })
    for (let i = 0; i < 10; i++) s.change()
    await until(() => s.destination().present().reason.startsWith('not now'), 'the refusal')
    await pause(2500)
    s.faults({})
    await s.settled()
    expect(s.counts()).toMatchObject({ rejected: 0, missing: 0, arrived: s.counts()!.produced })
    expect((await s.events('mqtt.refused-151')).length).toBe(1)
    expect((await s.events('destination.takes')).length).toBe(1)
    await s.end()
  })
})

describe('the ledger is true', () => {
  // Alone: the clock is everybody's.
  it('the wall clock is set an hour forward and back: nothing is late or missing for it, and it is told', async () => {
    // Far less than an hour, far more than a busy machine takes.
    const s = await scene({ settings: { lateS: 120 } })
    const real = Date.now
    const stop = s.feed(50)
    try {
      for (const by of [3_600_000, -3_600_000, 0]) {
        Date.now = () => real() + by
        await pause(1500)
      }
    } finally {
      Date.now = real
    }
    stop()
    await s.settled()
    expect(s.counts()).toMatchObject({ late: 0, missing: 0, arrived: s.counts()!.produced })
    expect((await s.events('clock.step')).length).toBeGreaterThanOrEqual(2)
    await s.end()
  })
})
