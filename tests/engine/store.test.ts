import { sql } from 'kysely'
import pg from 'pg'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { DestinationDraft } from '~/contract/destination'
import type { EquipmentInput } from '~/contract/equipment'
import { FailureError } from '~/contract/failure'
import { FoundKind } from '~/contract/find'
import { newId } from '~/contract/id'
import { flatJsonSettings, ShapeSettings } from '~/contract/shape'
import { SourceDraft } from '~/contract/source'
import type { TagInput } from '~/contract/tag'
import { accountRule, addressRule } from '~/core/credential/attempts'
import { overMqtt } from '~/core/publication/over-mqtt'
import { addAudit, auditAfter, listAudit } from '~/store/audit'
import { addClass, changeClass, removeClass } from '~/store/class'
import { addCredential, listCredentials, openCredential, removeCredential } from '~/store/credential'
import { listen, type Noun } from '~/store/database'
import { addDestination, changeDestination } from '~/store/destination'
import { listEquipment } from '~/store/equipment'
import { addEquipment, changeEquipment, editEquipment, removeEquipment } from '~/store/equipment-edit'
import { addEvents, listEvents, trimEvents } from '~/store/event'
import { findNamed } from '~/store/find'
import { setRunning } from '~/store/going-live'
import { Lease, thisProcess } from '~/store/lease'
import { migrate } from '~/store/migrate'
import {
  addKey,
  addPerson,
  changePassword,
  changePerson,
  endSession,
  keyCaller,
  listPeople,
  listSessions,
  logIn,
  logOut,
  removePerson,
  sessionCaller,
  setUp,
  setUpToken,
} from '~/store/person'
import { getPublication, listPublications } from '~/store/publication'
import { addPublication, changePublication, removePublication } from '~/store/publication-edit'
import { addSource, changeSource, getSource, removeSource, sourcePassword } from '~/store/source'
import { firstTags, listTags, tagsOfEquipment, tagUse } from '~/store/tag'
import { addTags, changeTag, removeTags } from '~/store/tag-edit'
import { publish, zonesPlant } from './plant'
import { brokerAt, freshDatabase, until } from './support'

let t: Awaited<ReturnType<typeof freshDatabase>>
beforeAll(async () => {
  t = await freshDatabase()
})
afterAll(() => t.drop())

/** A broker that nobody speaks with. */
function raced(): DestinationDraft {
  const common = { host: 'broker', port: 1883, protocol: '5', tls: false, authorityId: null, credentialId: null, witnessCredentialId: null }
  const pace = { keepAliveS: 30, retryMs: 1000, window: 20, ackS: 20, lateS: 30, outboxMb: 10, witness: true }
  const settings = { ...common, ...pace, clientId: 'raced', witnessClientId: 'raced-witness' }
  return DestinationDraft.parse({ name: 'Raced', kind: 'mqtt', enabled: false, settings })
}

const failure = (work: Promise<unknown>) =>
  work.then(
    () => null,
    (e: unknown) => {
      if (!(e instanceof FailureError)) throw e
      return { status: e.status, ...e.failure }
    },
  )

const settings = {
  endpoint: 'opc.tcp://kiln:4840/x',
  mode: 'SignAndEncrypt',
  policy: 'Basic256Sha256',
  login: 'user',
  user: 'u',
  credentialId: null,
  samplingMs: 0,
  queue: 10,
  deadbands: 'here',
  rateMs: 500,
  retryMs: 1000,
} as const
const source = (name: string, password?: string) =>
  addSource(t.db, t.vault, { name, kind: 'opcua', enabled: true, settings, ...(password && { password }) })
const tag = (sourceId: string, name: string, address = name): TagInput => ({
  name,
  sourceId,
  address: `ns=1;s=${address}`,
  dataType: 'number',
  unit: '',
  description: '',
  deadband: null,
})

it('migrating again changes nothing', async () => {
  expect(await migrate(t.db)).toEqual([])
})

describe('people', () => {
  it('the set-up token makes one administrator, and is no use afterwards', async () => {
    const token = (await setUpToken(t.db))!
    const input = { name: 'Odo', login: 'odo', password: 'long enough' }
    expect(await failure(setUp(t.db, { ...input, token: 'x' }))).toMatchObject({ code: 'setup.token', status: 403 })
    expect(await setUp(t.db, { ...input, token })).toMatchObject({ role: 'administrator' })
    expect(await setUpToken(t.db)).toBeNull()
    expect(await failure(setUp(t.db, { ...input, login: 'two', token }))).toMatchObject({ code: 'setup.done' })
  })

  it('a session lives from log-in to log-out, and ends with a new password or role', async () => {
    const person = await addPerson(t.db, { name: 'Ines', login: 'ines', role: 'engineer', password: 'long enough' })
    expect(await logIn(t.db, 'ines', 'wrong', null)).toBeNull()
    expect(await logIn(t.db, 'nobody', 'long enough', null)).toBeNull()
    const first = (await logIn(t.db, ' INES ', 'long enough', null))!
    expect((await sessionCaller(t.db, first.token))?.caller).toMatchObject({ name: 'Ines', role: 'engineer' })
    await logOut(t.db, first.token)
    expect(await sessionCaller(t.db, first.token)).toBeNull()
    const second = (await logIn(t.db, 'ines', 'long enough', null))!
    await changePerson(t.db, person.id, { password: 'another long one' })
    expect(await sessionCaller(t.db, second.token)).toBeNull()
    expect(await logIn(t.db, 'ines', 'long enough', null)).toBeNull()
    expect(await failure(addPerson(t.db, { name: 'x', login: 'ines', role: 'viewer', password: 'long enough' }))).toMatchObject({
      status: 409,
      fields: { login: expect.any(String) },
    })
  })

  it('guessing one account shuts its log-in for a while, also against the right password, and is said', async () => {
    await addPerson(t.db, { name: 'Tam', login: 'tam', role: 'operator', password: 'long enough' })
    for (let i = 0; i < accountRule.free; i++) expect(await logIn(t.db, 'tam', `guess ${i}`, '10.0.0.1')).toBeNull()
    const shut = await failure(logIn(t.db, 'Tam ', 'long enough', '10.0.0.2'))
    expect(shut).toMatchObject({ status: 429, code: 'access.too-many', retryS: expect.any(Number) })
    expect(shut!.retryS).toBeLessThanOrEqual(accountRule.firstMs / 1000)
    // Others are not hindered, nor is Tam when the time is over.
    await addPerson(t.db, { name: 'Vera', login: 'vera', role: 'viewer', password: 'long enough' })
    expect(await logIn(t.db, 'vera', 'long enough', '10.0.0.1')).not.toBeNull()
    await sql`update log_in_attempt set shut_until = now() - interval '1 s'`.execute(t.db)
    expect(await logIn(t.db, 'tam', 'long enough', '10.0.0.2')).not.toBeNull()
    // Forgiven: all free tries are there again.
    for (let i = 0; i < accountRule.free - 1; i++) await logIn(t.db, 'tam', 'wrong', null)
    expect(await logIn(t.db, 'tam', 'long enough', null)).not.toBeNull()
    const event = (await listEvents(t.db, 20)).find((e) => e.code === 'access.too-many')
    expect(event).toMatchObject({ subject: 'Tam', where: 'web' })
    expect(event!.message).toContain('10.0.0.1')
  })

  it('somebody who guesses at an account does not shut it for browsers in which its owner came before', async () => {
    await addPerson(t.db, { name: 'Wim', login: 'wim', role: 'operator', password: 'long enough' })
    const { device } = (await logIn(t.db, 'wim', 'long enough', '10.0.1.1'))!
    for (let i = 0; i < accountRule.free; i++) await logIn(t.db, 'wim', `guess ${i}`, '10.0.1.9')
    expect(await failure(logIn(t.db, 'wim', 'long enough', '10.0.1.1'))).toMatchObject({ status: 429 })
    // His own browser has a door of its own, from the same address as the guesser too; it shuts for itself.
    expect((await logIn(t.db, 'wim', 'long enough', '10.0.1.9', { device }))!.device).toBe(device)
    for (let i = 0; i < accountRule.free; i++) expect(await logIn(t.db, 'wim', 'wrong', '10.0.1.1', { device })).toBeNull()
    expect(await failure(logIn(t.db, 'wim', 'long enough', '10.0.1.1', { device }))).toMatchObject({ status: 429 })
    // What is no such browser, or another person's, helps nobody.
    expect(await failure(logIn(t.db, 'wim', 'long enough', '10.0.1.1', { device: 'x'.repeat(32) }))).toMatchObject({ status: 429 })
    const vera = (await logIn(t.db, 'vera', 'long enough', '10.0.1.2'))!.device
    expect(await failure(logIn(t.db, 'wim', 'long enough', '10.0.1.1', { device: vera }))).toMatchObject({ status: 429 })
  })

  it('once somebody is set up, tries with the set-up token are not counted against anybody', async () => {
    for (let i = 0; i < addressRule.free + 5; i++)
      expect(await failure(setUp(t.db, { name: 'x', login: 'xx', password: 'long enough', token: `guess ${i}` }, '10.0.2.1'))).toMatchObject({
        code: 'setup.done',
      })
    expect(await logIn(t.db, 'vera', 'long enough', '10.0.2.1')).not.toBeNull()
  })

  it('one address that tries many accounts is shut out, others are not; tries at once count too', async () => {
    const tries = await Promise.all(
      Array.from({ length: addressRule.free + 30 }, (_, i) =>
        logIn(t.db, `nobody${i}`, 'guess', '10.9.9.9').then(
          () => 'tried',
          () => 'shut',
        ),
      ),
    )
    expect(tries.filter((x) => x === 'tried').length).toBeLessThanOrEqual(addressRule.free + 6)
    expect(await failure(logIn(t.db, 'vera', 'long enough', '10.9.9.9'))).toMatchObject({ status: 429 })
    expect(await logIn(t.db, 'vera', 'long enough', '10.9.9.8')).not.toBeNull()
    // What was typed is not kept, not even as a name.
    const rows = JSON.stringify(await t.db.selectFrom('log_in_attempt').selectAll().execute())
    expect(rows).not.toContain('nobody')
  })

  it('a session changes its token every hour, ends when idle or after twelve hours, and the old token dies within a minute', async () => {
    const { token } = (await logIn(t.db, 'vera', 'long enough', null))!
    const at = Date.now()
    const who = (text: string, now: number, renew = true) => sessionCaller(t.db, text, { now, renew })
    expect((await who(token, at + 30 * 60_000))!.renewed).toBeNull()
    const hour = at + 61 * 60_000
    expect((await who(token, hour, false))!.renewed).toBeNull()
    const renewed = (await who(token, hour))!.renewed!
    expect(renewed.token).not.toBe(token)
    expect(renewed.expires.getTime() - at).toBeLessThan(12.1 * 3600_000)
    expect(await who(token, hour + 30_000)).toMatchObject({ caller: { name: 'Vera' }, renewed: null })
    expect(await who(token, hour + 61_000)).toBeNull()
    expect(await who(renewed.token, hour + 61_000)).not.toBeNull()
    expect(await who(renewed.token, hour + 2.1 * 3600_000)).toBeNull()
    const second = (await logIn(t.db, 'vera', 'long enough', null))!
    expect(await who(second.token, Date.now() + 12.1 * 3600_000)).toBeNull()
    await logOut(t.db, renewed.token)
    expect(await who(renewed.token, hour + 62_000)).toBeNull()
  })

  it('there is always an administrator left', async () => {
    const odo = (await listPeople(t.db)).find((p) => p.login === 'odo')!
    expect(await failure(changePerson(t.db, odo.id, { role: 'viewer' }))).toMatchObject({ code: 'person.last-administrator' })
    expect(await failure(removePerson(t.db, odo.id))).toMatchObject({ code: 'person.last-administrator' })
    expect((await listPeople(t.db)).find((p) => p.login === 'odo')?.role).toBe('administrator')
  })

  it('an API key is kept only as its digest', async () => {
    const { key } = await addKey(t.db, { name: 'script', role: 'viewer', days: 30 }, null)
    expect(await keyCaller(t.db, key)).toMatchObject({ kind: 'key', role: 'viewer' })
    expect(await keyCaller(t.db, `${key}x`)).toBeNull()
    const rows = JSON.stringify(await t.db.selectFrom('api_key').selectAll().execute())
    expect(rows).not.toContain(key)
  })

  it('an API key ends, may no more than its owner, and goes with them', async () => {
    const ida = await addPerson(t.db, { name: 'Ida', login: 'ida', role: 'engineer', password: 'kiln 7 at noon' })
    const { key, stored } = await addKey(t.db, { name: 'ida script', role: 'engineer', days: 2 }, ida.id)
    expect(stored).toMatchObject({ owner: 'Ida', endsAt: expect.any(Number) })
    const day = 86_400_000
    expect(await keyCaller(t.db, key, Date.now() + 1.9 * day)).toMatchObject({ role: 'engineer' })
    expect(await keyCaller(t.db, key, Date.now() + 2.1 * day)).toBeNull()
    await changePerson(t.db, ida.id, { role: 'viewer' })
    expect(await keyCaller(t.db, key)).toMatchObject({ role: 'viewer' })
    await removePerson(t.db, ida.id)
    expect(await keyCaller(t.db, key)).toBeNull()
  })

  it('one changes the own password, with the one before; other sessions end, this one stays', async () => {
    const oda = await addPerson(t.db, { name: 'Oda Ton', login: 'oda', role: 'viewer', password: 'first of many words' })
    const [here, there] = [
      (await logIn(t.db, 'oda', 'first of many words', '10.0.3.1'))!,
      (await logIn(t.db, 'oda', 'first of many words', '10.0.3.2'))!,
    ]
    const sessions = await listSessions(t.db, oda.id, here.token)
    expect(sessions.map((s) => [s.address, s.own])).toEqual([
      ['10.0.3.2', false],
      ['10.0.3.1', true],
    ])
    expect(await failure(changePassword(t.db, oda.id, 'wrong one', 'second of many words', here.token))).toMatchObject({
      code: 'person.wrong-password',
    })
    expect(await failure(changePassword(t.db, oda.id, 'first of many words', 'OdaTon2026!', here.token))).toMatchObject({
      code: 'person.common-password',
      fields: { next: expect.any(String) },
    })
    await changePassword(t.db, oda.id, 'first of many words', 'second of many words', here.token)
    expect(await sessionCaller(t.db, there.token)).toBeNull()
    expect(await sessionCaller(t.db, here.token)).not.toBeNull()
    expect(await logIn(t.db, 'oda', 'first of many words', '10.0.3.1')).toBeNull()
    // Nobody ends the sessions of others.
    const vera = (await listPeople(t.db)).find((p) => p.login === 'vera')!
    const own = (await listSessions(t.db, oda.id, here.token))[0]!
    expect(await failure(endSession(t.db, vera.id, own.id))).toMatchObject({ code: 'session.unknown' })
    await endSession(t.db, oda.id, own.id)
    expect(await sessionCaller(t.db, here.token)).toBeNull()
  })

  it('a stream that only looks does not keep a session alive', async () => {
    const { token } = (await logIn(t.db, 'vera', 'long enough', null))!
    const at = Date.now()
    for (let minute = 2; minute < 120; minute += 2)
      expect(await sessionCaller(t.db, token, { now: at + minute * 60_000, renew: false })).not.toBeNull()
    expect(await sessionCaller(t.db, token, { now: at + 121 * 60_000, renew: false })).toBeNull()
  })

  it('what stands in the audit stays there', async () => {
    const act = {
      who: 'Odo',
      whoId: null,
      via: 'session' as const,
      address: null,
      act: 'changeSource',
      subjectKind: 'source',
      subjectId: null,
      subject: 'Kiln',
    }
    await addAudit(t.db, { ...act, before: { rateMs: 500 }, after: { rateMs: 100 } })
    expect(await listAudit(t.db, { limit: 10, text: 'kil' })).toEqual([
      expect.objectContaining({ who: 'Odo', before: { rateMs: 500 }, after: { rateMs: 100 } }),
    ])
    expect(await listAudit(t.db, { limit: 10, text: '100%_' })).toEqual([])
    for (const statement of ['delete from audit', "update audit set who = 'x'", 'truncate audit'])
      await expect(sql.raw(statement).execute(t.db)).rejects.toThrow('stays there')
    const [first] = await auditAfter(t.db, 0, 10)
    expect(await auditAfter(t.db, first!.id, 10)).toEqual([])
  })
})

describe('secrets', () => {
  it('a password is stored encrypted, kept when left out, gone when the log-in is anonymous', async () => {
    const s = await source('secret', 'kiln-secret-9')
    expect(s.hasPassword).toBe(true)
    expect(JSON.stringify(s)).not.toContain('kiln-secret-9')
    const raw = await t.db.selectFrom('source').selectAll().where('id', '=', s.id).executeTakeFirstOrThrow()
    expect(raw.secret!.toString('latin1')).not.toContain('kiln-secret-9')
    const draft = { name: 'secret', kind: 'opcua' as const, enabled: true, settings }
    await changeSource(t.db, t.vault, s.id, draft)
    expect(await sourcePassword(t.db, t.vault, s.id)).toBe('kiln-secret-9')
    await changeSource(t.db, t.vault, s.id, { ...draft, settings: { ...settings, login: 'anonymous' } })
    expect((await getSource(t.db, s.id)).hasPassword).toBe(false)
  })

  it('a credential gives its secret to the engine alone', async () => {
    const made = await addCredential(t.db, t.vault, {
      name: 'login',
      kind: 'password',
      certificate: null,
      facts: null,
      user: 'u',
      secret: 'broker-secret-9',
    })
    expect(JSON.stringify(await listCredentials(t.db))).not.toContain('broker-secret-9')
    expect((await openCredential(t.db, t.vault, made.id)).secret).toBe('broker-secret-9')
    await removeCredential(t.db, made.id)
    expect(await failure(openCredential(t.db, t.vault, made.id))).toMatchObject({ code: 'credential.unknown' })
  })
})

describe('tags', () => {
  it('are added all or none, and each refused row is named', async () => {
    const s = await source('tags')
    await addTags(t.db, [tag(s.id, 'a'), tag(s.id, 'b')])
    const refused = await failure(addTags(t.db, [tag(s.id, 'c'), tag(s.id, 'a', 'other'), tag(s.id, 'd', 'b'), tag(s.id, 'c', 'again')]))
    expect(refused).toMatchObject({
      status: 409,
      fields: { 'tags.1.name': 'a exists already', 'tags.2.address': 'This node is tag b already', 'tags.3.name': 'The same name as row 1' },
    })
    expect((await listTags(t.db)).map((x) => x.name).sort()).toEqual(['a', 'b'])
    expect(await failure(addTags(t.db, [tag('01a208ce-85ce-7000-ab1f-2ce1c1e2c52f', 'x')]))).toMatchObject({
      fields: { 'tags.0.sourceId': 'There is no such source' },
    })
    expect(await failure(removeSource(t.db, s.id))).toMatchObject({ message: 'Tags are still read from this source' })
  })

  it('the first come in the order of their names, and those of some equipment however it uses them', async () => {
    const s = await source('some tags')
    const names = ['Zone 10', 'Zone 2', 'zone 1', 'Apart']
    const [, two, one, apart] = await addTags(
      t.db,
      names.map((name) => tag(s.id, name)),
    )
    const ordered = (await firstTags(t.db, 1000)).map((x) => x.name).filter((name) => name.startsWith('Zone') || name.startsWith('zone'))
    expect(ordered).toEqual(['zone 1', 'Zone 2', 'Zone 10'])
    expect((await firstTags(t.db, 2)).map((x) => x.name)).toEqual((await firstTags(t.db, 1000)).slice(0, 2).map((x) => x.name))
    const cls = await addClass(t.db, {
      name: 'Some',
      members: ['a', 'b'].map((id) => ({ id, key: id, label: id })),
    })
    const sum = { text: 'x + 1', inputs: { x: { kind: 'tag' as const, tagId: two!.id } } }
    const add: EquipmentInput[] = [
      {
        name: 'Some equipment',
        parentId: null,
        level: 'enterprise' as const,
        classId: cls.id,
        bindings: { a: { kind: 'tag' as const, tagId: one!.id }, b: { kind: 'expression' as const, expression: sum } },
      },
      { name: 'Another', parentId: null, level: 'enterprise' as const, classId: cls.id, bindings: { a: { kind: 'tag' as const, tagId: apart!.id } } },
    ]
    const { equipment } = await editEquipment(t.db, { add })
    const ids = async (of: readonly string[]) => (await tagsOfEquipment(t.db, of)).map((x) => x.name).sort()
    expect(await ids([equipment[0]!.id])).toEqual(['Zone 2', 'zone 1'])
    expect(await ids([equipment[1]!.id, newId()])).toEqual(['Apart'])
    await editEquipment(t.db, { remove: equipment.map(({ id }) => ({ id })) })
    await removeClass(t.db, cls.id)
    await removeTags(
      t.db,
      [...(await listTags(t.db, s.id))].map((x) => x.id),
    )
  })

  it('a change made from an old look is refused', async () => {
    const one = (await listTags(t.db))[0]!
    const now = await changeTag(t.db, one.id, { unit: '°C', version: one.version })
    expect(now).toMatchObject({ unit: '°C', handle: one.handle, version: one.version + 1 })
    expect(await failure(changeTag(t.db, one.id, { unit: 'K', version: one.version }))).toMatchObject({ code: 'tag.newer' })
    expect(await failure(changeTag(t.db, one.id, { name: 'b' }))).toMatchObject({ fields: { name: 'b exists already' } })
  })
})

describe('equipment', () => {
  it('stands where its level allows, with bindings that exist', async () => {
    const cls = await addClass(t.db, { name: 'Zone', members: [{ id: 'n', key: 'n', label: 'N' }] })
    const one = (await listTags(t.db))[0]!
    const draft = (part: object) => ({ name: 'x', parentId: null, level: 'enterprise' as const, classId: null, bindings: {}, ...part })
    expect(await failure(addEquipment(t.db, draft({ level: 'site' })))).toMatchObject({ fields: { level: 'Only an enterprise stands at the top' } })
    const top = await addEquipment(t.db, draft({ name: 'Varnmoor' }))
    expect(await failure(addEquipment(t.db, draft({ name: 'Varnmoor' })))).toMatchObject({
      fields: { name: 'Something beside it is called Varnmoor already' },
    })
    const area = await addEquipment(t.db, draft({ name: 'Firing', level: 'area', parentId: top.id }))
    expect(await failure(changeEquipment(t.db, top.id, draft({ name: 'Varnmoor', parentId: area.id })))).toMatchObject({
      fields: { parentId: 'It cannot stand under itself' },
    })
    expect(
      await failure(
        addEquipment(t.db, draft({ level: 'work unit', parentId: area.id, classId: cls.id, bindings: { other: { kind: 'tag', tagId: one.id } } })),
      ),
    ).toMatchObject({
      fields: { 'bindings.other': 'The class has no such member' },
    })
    const zone = await addEquipment(
      t.db,
      draft({ name: 'Zone 1', level: 'work unit', parentId: area.id, classId: cls.id, bindings: { n: { kind: 'tag', tagId: one.id } } }),
    )
    expect(await tagUse(t.db, one.id)).toMatchObject({ equipment: [{ name: 'Zone 1', member: 'N' }] })
    expect(await failure(removeTags(t.db, [one.id]))).toMatchObject({ message: `${one.name} fills N of Zone 1` })
    expect(await failure(removeEquipment(t.db, area.id))).toMatchObject({ message: 'Zone 1 stands under Firing' })
    expect(await failure(removeClass(t.db, cls.id))).toMatchObject({ message: 'Equipment of this class still exists' })
    expect((await changeClass(t.db, cls.id, { name: 'Kiln Zone', members: cls.members })).equipmentCount).toBe(1)
    await removeEquipment(t.db, zone.id)
    await removeTags(t.db, [one.id])
    expect((await listEquipment(t.db)).map((e) => e.name).sort()).toEqual(['Firing', 'Varnmoor'])
  })
})

it('whoever listens hears of a change when it is committed, and of the connection that died', async () => {
  const heard: Noun[] = []
  let lost = false
  await listen(
    t.url,
    (noun) => heard.push(noun),
    () => {
      lost = true
    },
  )
  await source('announced')
  await until(() => heard.includes('source'), 'the announcement')
  await failure(source('announced'))
  expect(heard).toEqual(['source'])
  await sql`select pg_terminate_backend(pid) from pg_stat_activity where application_name = 'embrik listen' and datname = current_database()`.execute(
    t.db,
  )
  await until(() => lost, 'the loss to be told')
})

describe('the lease', () => {
  /** Somewhere else: nobody here can tell whether that process lives. */
  const elsewhere = { ...thisProcess(), host: 'another machine' }

  it('is held by one engine, and free as soon as that one gives it back; every turn has a higher epoch', async () => {
    const first = new Lease(t.url)
    const second = new Lease(t.url, elsewhere)
    expect(await first.take()).toBe(true)
    expect(await second.take()).toBe(false)
    expect(await first.confirm()).toBe(true)
    await first.release()
    expect(await second.take()).toBe(true)
    expect(second.epoch).toBeGreaterThan(first.epoch)
    await second.release()
  })

  it('may be taken over when nobody confirmed it for a while; the engine before learns of it', async () => {
    const first = new Lease(t.url, elsewhere)
    const second = new Lease(t.url)
    expect(await first.take()).toBe(true)
    expect(await second.take()).toBe(false)
    await t.db
      .updateTable('engine_pulse')
      .set({ at: new Date(Date.now() - 60_000) })
      .execute()
    expect(await second.take()).toBe(true)
    expect(await first.confirm()).toBe(false)
    await first.end()
    await second.release()
  })

  it('of a process that died on this machine is free at once, and not of one that lives', async () => {
    const dead = new Lease(t.url, { ...thisProcess(), pid: 4_194_300, began: '1' })
    const other = new Lease(t.url, { ...thisProcess(), pid: 1, began: '' })
    expect(await dead.take()).toBe(true)
    expect(await other.take()).toBe(true)
    await dead.end()
    await other.release()
  })
})

it('the event list keeps the newest', async () => {
  const event = (n: number) => ({ severity: 'note' as const, where: 'engine', subjectId: null, subject: 's', code: 'c', message: `m${n}`, hint: '' })
  await addEvents(
    t.db,
    Array.from({ length: 30 }, (_, i) => event(i)),
  )
  await trimEvents(t.db, 10)
  expect((await listEvents(t.db, 100)).slice(0, 2).map((e) => e.message)).toEqual(['m29', 'm28'])
  expect((await listEvents(t.db, 100)).length).toBeLessThanOrEqual(11)
})

describe('a destination', () => {
  const common = { port: 1883, protocol: '5', tls: false, authorityId: null, credentialId: null, witnessCredentialId: null }
  const pace = { keepAliveS: 30, retryMs: 1000, window: 20, ackS: 20, lateS: 30, outboxMb: 10, witness: true }
  const draft = (name: string, clientId: string, more: object = {}) => {
    const settings = { ...common, ...pace, host: 'localhost', clientId, witnessClientId: `${clientId}-witness`, ...more }
    return DestinationDraft.parse({ name, kind: 'mqtt', enabled: false, settings })
  }
  const refused = (save: Promise<unknown>) =>
    save.then(
      () => null,
      (e: FailureError) => e.failure.fields,
    )

  it('has client ids of its own at its broker: not those of another, of a witness, or of a source of topics', async () => {
    const one = await addDestination(t.db, draft('One of two', 'shared'))
    expect(await refused(addDestination(t.db, draft('Two of two', 'shared', { host: '127.0.0.1' })))).toEqual({
      'settings.clientId': expect.stringContaining('the destination One of two'),
      'settings.witnessClientId': expect.stringContaining('the witness of One of two'),
    })
    expect(await refused(addDestination(t.db, draft('Two of two', 'shared-witness', { witness: false })))).toEqual({
      'settings.clientId': expect.stringContaining('the witness of One of two'),
    })
    expect(await refused(addDestination(t.db, draft('Two of two', 'shared', { port: 1884 })))).toBeNull()
    expect(await refused(addDestination(t.db, draft('Three', 'own')))).toBeNull()
    // Saved with nothing changed it is not its own rival.
    expect(await refused(changeDestination(t.db, one.id, one))).toBeNull()
    const topics = {
      ...common,
      host: 'LOCALHOST',
      clientId: 'own',
      filters: 'probes/#',
      timeField: '',
      qualityField: '',
      retryMs: 1000,
      keepAliveS: 30,
      staleS: 60,
    }
    const source = SourceDraft.parse({ name: 'Speaks as another', kind: 'mqtt', enabled: false, settings: topics })
    expect(await refused(addSource(t.db, t.vault, source))).toEqual({ 'settings.clientId': expect.stringContaining('the destination Three') })
  })

  it('does not become one of MQTT 3.1.1 under what is live and needs headers; nothing is saved', async () => {
    const own = await freshDatabase()
    const d = await addDestination(own.db, draft('With headers', 'headers'))
    const { equipmentIds } = await zonesPlant(own.db, own.vault, 1)
    const shape = ShapeSettings.parse({ kind: 'cloudevents', mode: 'binary' })
    const p = await publish(own.db, { name: 'Binary events', destinationId: d.id, equipmentIds, shape })
    const older = { ...(await brokerAt(own.db, d.id)) }
    older.settings = { ...older.settings, protocol: '3.1.1' }
    expect(await refused(changeDestination(own.db, d.id, older))).toEqual({ 'settings.protocol': expect.stringContaining('Binary events') })
    expect((await brokerAt(own.db, d.id)).settings.protocol).toBe('5')
    // A paused one does not keep it, and does not go on there.
    await setRunning(own.db, p, false)
    expect(await refused(changeDestination(own.db, d.id, older))).toBeNull()
    await expect(setRunning(own.db, p, true)).rejects.toThrow('CloudEvents in binary mode')
    expect((await getPublication(own.db, p)).state).toBe('paused')
    await own.drop()
  })
})

describe('the finder', () => {
  it('finds all kinds by words in any order, what is called just so first, and takes signs for what they are', async () => {
    const s = await source('Finder 100%')
    const names = [
      'Finder/Zone 1/temperature',
      'Finder/Zone 11/temperature',
      'Finder/Zone 1/temperature set',
      'Finder/50_percent',
      'Finder/50 percent',
    ]
    await addTags(
      t.db,
      names.map((name) => ({ name, sourceId: s.id, address: `ns=1;s=${name}`, dataType: 'number' as const })),
    )
    const find = async (q: string) => (await findNamed(t.db, q, 12, new Set(FoundKind.options))).map((f) => [f.kind, f.name, f.exact])
    expect((await find('temp finder 1 zone')).map((f) => f[1])).toEqual([names[0], names[2], names[1]])
    expect((await find('TEMPERATURE SET')).map((f) => f[1])).toEqual([names[2]])
    expect((await find('finder/zone 1/temperature')).map((f) => [f[1], f[2]])).toEqual([
      [names[0], true],
      [names[2], false],
      [names[1], false],
    ])
    expect((await find('50 percent')).filter((f) => f[2])).toEqual([['tag', names[4], true]])
    expect((await find('50_p')).map((f) => f[1])).toEqual([names[3]])
    expect(await find('100%')).toEqual([['source', 'Finder 100%', false]])
    for (const q of ['', '   ', '\\', "'; drop table tag; --", '[', '(.*', '%']) await find(q)
    expect(await find('%%%%')).toEqual([])
  })
})

describe('two people who save the same thing at once', () => {
  /** Both began with what is there; gives how each ended. */
  async function race(save: (name: string) => Promise<{ name: string }>): Promise<string[]> {
    const ends = await Promise.allSettled([save('of the one'), save('of the other')])
    return ends.map((e) => (e.status === 'fulfilled' ? 'saved' : `${e.reason.status} ${e.reason.failure.code}`)).sort()
  }
  const lost = expect.stringMatching(/^409 /)

  it('of a source, a class, a destination, a publication: one is saved, the other is told and loses nothing', async () => {
    const s = await source('raced')
    const { id: _, version, ...draft } = s
    expect(await race((name) => changeSource(t.db, t.vault, s.id, { ...draft, name }, version))).toEqual([lost, 'saved'])

    const members = [{ id: 'm', key: 'm', label: 'm', dataType: 'number' as const }]
    const cls = await addClass(t.db, { name: 'Raced', members })
    expect(await race((name) => changeClass(t.db, cls.id, { name, members }, '', cls.version))).toEqual([lost, 'saved'])

    const d = await addDestination(t.db, raced())
    expect(await race((name) => changeDestination(t.db, d.id, { ...d, name }, d.version))).toEqual([lost, 'saved'])

    const own = {
      name: 'Raced',
      destinationId: d.id,
      equipmentIds: [],
      tags: { folder: '', text: '' },
      trigger: { kind: 'change' as const },
      shape: flatJsonSettings,
    }
    const p = await addPublication(t.db, overMqtt({ ...own, topic: 'x' }))
    expect(await race((name) => changePublication(t.db, p.id, { ...p, name }, p.version))).toEqual([lost, 'saved'])
    expect((await getPublication(t.db, p.id)).version).toBe(p.version + 1)
  })
})

it('a publication is removed while its account is written, and each waits for the other: it is removed, and nobody is told of it', async () => {
  const own = await freshDatabase()
  const engine = new pg.Client(own.url)
  await engine.connect()
  try {
    const d = await addDestination(own.db, raced())
    const plain = {
      name: 'p',
      trigger: { kind: 'change' as const },
      shape: flatJsonSettings,
      topic: 'x',
      equipmentIds: [],
      tags: { folder: '', text: '' },
      destinationId: d.id,
    }
    const { id } = await addPublication(own.db, overMqtt(plain))
    const { number } = await own.db
      .insertInto('delivery')
      .values({ publication_id: id, destination_id: d.id })
      .returning('number')
      .executeTakeFirstOrThrow()
    await own.db.insertInto('taken_back').values({ delivery: number, place: 'a', key: '' }).execute()
    // The other is the one that PostgreSQL takes back: it looks first.
    await engine.query("set deadlock_timeout = '60s'")
    await engine.query('begin')
    await engine.query("update taken_back set key = 'k'")
    let taken = 0
    const watched = own.db.withPlugin({
      transformQuery: ({ node }) => {
        if (node.kind === 'DeleteQueryNode') taken++
        return node
      },
      transformResult: async ({ result }) => result,
    })
    const removed = removePublication(watched, id)
    const waits = async () => {
      const { rows } = await sql<{ n: number }>`
        select count(*)::int as n from pg_stat_activity where datname = current_database() and wait_event_type = 'Lock'`.execute(own.db)
      return rows[0]!.n > 0
    }
    await until(waits, 'the removal to wait')
    await engine.query("insert into taken_back (delivery, place) values ($1, 'b')", [number])
    await engine.query('commit')
    await removed
    expect(await listPublications(own.db)).toEqual([])
    expect(taken).toBeGreaterThan(1)
  } finally {
    await engine.end()
    await own.drop()
  }
})
