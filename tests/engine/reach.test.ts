// Kept secrets go where they were meant to go, and nowhere else.
import { createServer, type Server } from 'node:net'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { SourceDraft } from '~/contract/source'
import { destinationUses, sourceUses } from '~/core/credential/reach'
import { ControlServer } from '~/engine/control/server'
import { Engine } from '~/engine/engine'
import { addCredential, bindCredential, demandPlaces, listCredentials } from '~/store/credential'
import { addDestination } from '~/store/destination'
import { addSource, changeSource, sourcePassword } from '~/store/source'
import { brokerSettings, folder, freePort, freshDatabase, startBroker, type TestBroker } from './support'

let t: Awaited<ReturnType<typeof freshDatabase>>
let b: TestBroker
let engine: Engine
let control: ControlServer
let ask: (path: string, body: object) => Promise<{ status: number; text: string }>
let thief: Server
let caught = ''
let thiefPort: number

beforeAll(async () => {
  t = await freshDatabase()
  b = await startBroker()
  thiefPort = await freePort()
  thief = createServer((socket) => {
    socket.on('data', (d) => (caught += d.toString('latin1')))
    socket.on('error', () => undefined)
  })
  await new Promise<void>((done) => thief.listen(thiefPort, '127.0.0.1', done))
  engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('reach') })
  await engine.start()
  const port = await freePort()
  control = await ControlServer.start(engine, { host: '127.0.0.1', port, secret: 's' })
  ask = async (path, body) => {
    const headers = { 'x-embrik-secret': 's', 'content-type': 'application/json' }
    const r = await fetch(`http://127.0.0.1:${port}${path}`, { method: 'POST', headers, body: JSON.stringify(body) })
    return { status: r.status, text: await r.text() }
  }
})
afterAll(async () => {
  await control.stop()
  await engine.stop()
  await b.broker.stop()
  await new Promise<void>((done) => thief.close(() => done()))
  await t.drop()
})

describe('the password of a source', () => {
  const settings = {
    url: 'http://127.0.0.1:9/air',
    authorityId: null,
    login: 'basic',
    user: 'monitor',
    headers: '',
    timeoutMs: 2000,
    rateMs: 60_000,
    retryMs: 60_000,
  }
  const http = (part: object = {}) => ({ name: 'air', kind: 'http', enabled: false, settings: { ...settings, ...part } }) as SourceDraft

  it('goes to no other host by a check, and not without TLS', async () => {
    const { id } = await addSource(t.db, t.vault, { ...http(), password: 'air-secret-1' })
    const elsewhere = `http://127.0.0.1:${thiefPort}/air`
    const refused = await ask('/sources/check', { ...http({ url: elsewhere }), id })
    expect(refused.status).toBe(422)
    expect(JSON.parse(refused.text)).toMatchObject({
      code: 'source.password-again',
      fields: { password: expect.stringContaining(`127.0.0.1:${thiefPort}`) },
    })
    // Typed again it may go there; what was kept is not what goes.
    const typed = await ask('/sources/check', { ...http({ url: elsewhere }), id, password: 'another' })
    expect(typed.status).toBe(200)
    expect(caught).not.toContain(Buffer.from('monitor:air-secret-1').toString('base64'))
    expect(caught).not.toContain('air-secret-1')
  })

  it('is not taken along by a change to another place; a change of anything else keeps it', async () => {
    const { id } = await addSource(t.db, t.vault, { ...http(), name: 'air 2', password: 'air-secret-2' })
    const moved = { ...http({ url: `http://127.0.0.1:${thiefPort}/air` }), name: 'air 2' }
    await expect(changeSource(t.db, t.vault, id, moved)).rejects.toMatchObject({ failure: { code: 'source.password-again' } })
    await changeSource(t.db, t.vault, id, { ...http({ rateMs: 30_000, url: 'http://127.0.0.1:9/other' }), name: 'air 2' })
    expect(await sourcePassword(t.db, t.vault, id)).toBe('air-secret-2')
    await changeSource(t.db, t.vault, id, { ...moved, password: 'new-1' } as SourceDraft)
    expect(await sourcePassword(t.db, t.vault, id)).toBe('new-1')
  })
})

describe('a log-in that several things may use', () => {
  const engineer = { anywhere: false, binds: true }
  const administrator = { anywhere: true, binds: true }
  const keep = (name: string, places: string[] = []) =>
    addCredential(t.db, t.vault, { name, kind: 'password', certificate: null, facts: null, user: 'embrik', secret: 'clay-sender-1', places })
  const to = async (credentialId: string, part: object) =>
    destinationUses({ kind: 'mqtt', settings: { ...(await brokerSettingsOnce()), tls: false, credentialId, witness: false, ...part } })
  let once: Awaited<ReturnType<typeof brokerSettings>> | null = null
  const brokerSettingsOnce = async () => (once ??= await brokerSettings(t.db, t.vault, b.ports))

  it('an engineer sends it to the places that it is bound to, and nowhere else', async () => {
    const { id } = await keep('bound', ['mqtt://127.0.0.1:1883'])
    await demandPlaces(t.db, await to(id, { port: 1883 }), engineer)
    for (const part of [{ port: thiefPort }, { port: 1883, host: 'evil.test' }, { port: 1883, tls: true }])
      await expect(demandPlaces(t.db, await to(id, part), engineer)).rejects.toMatchObject({
        status: 403,
        failure: { code: 'credential.place', fields: { 'settings.credentialId': expect.stringContaining('Not meant for') } },
      })
    await bindCredential(t.db, id, [`mqtt://127.0.0.1:${thiefPort}`])
    await demandPlaces(t.db, await to(id, { port: thiefPort }), engineer)
    await expect(demandPlaces(t.db, await to(id, { port: 1883 }), engineer)).rejects.toThrow('not meant for')
  })

  it('where it goes already it may go on; an administrator who saves it binds it, one who checks does not', async () => {
    const { id } = await keep('free')
    const place = `mqtt://127.0.0.1:${b.ports.plain}`
    const uses = await to(id, { port: b.ports.plain })
    await expect(demandPlaces(t.db, uses, engineer)).rejects.toThrow('not meant for')
    await demandPlaces(t.db, uses, { anywhere: true, binds: false })
    const places = async () => (await listCredentials(t.db)).find((c) => c.id === id)!.places
    expect(await places()).toEqual([])
    await demandPlaces(t.db, uses, administrator)
    expect(await places()).toEqual([place])
    const other = await keep('used')
    const settings = { ...(await brokerSettingsOnce()), port: 1999, tls: false, credentialId: other.id, enabled: false }
    await addDestination(t.db, { name: 'there already', kind: 'mqtt', enabled: false, settings })
    await demandPlaces(t.db, await to(other.id, { port: 1999 }), engineer)
  })

  it('a source that speaks MQTT asks the same; a certificate, whose key goes nowhere, does not', async () => {
    const { id } = await keep('devices')
    const source = { kind: 'mqtt', settings: { host: '127.0.0.1', port: thiefPort, tls: false, credentialId: id } } as never
    await expect(demandPlaces(t.db, sourceUses(source), engineer)).rejects.toThrow('not meant for')
    const { credentialId } = await brokerSettingsOnce()
    await demandPlaces(t.db, await to(credentialId!, { port: thiefPort }), engineer)
  })
})
