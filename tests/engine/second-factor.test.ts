// A second factor, from setting it up to losing the device; codes are made as a device makes them.
import { Secret, TOTP } from 'otpauth'
import { afterAll, beforeAll, expect, it } from 'vitest'
import { FailureError } from '~/contract/failure'
import { accountRule } from '~/core/credential/attempts'
import { listEvents } from '~/store/event'
import { addPerson, listPeople, logIn, sessionCaller } from '~/store/person'
import { beginSecondFactor, confirmSecondFactor, endSecondFactor, passesSecondFactor, resetSecondFactor, secondFactorOf } from '~/store/second-factor'
import { freshDatabase } from './support'

const PASSWORD = 'three words at noon'
let t: Awaited<ReturnType<typeof freshDatabase>>
beforeAll(async () => {
  t = await freshDatabase()
})
afterAll(() => t?.drop())

const failure = async (work: Promise<unknown>) => {
  const e = await work.then(
    () => null,
    (x: unknown) => x,
  )
  expect(e).toBeInstanceOf(FailureError)
  return { ...(e as FailureError).failure, status: (e as FailureError).status }
}
const person = async (login: string) => (await addPerson(t.db, { name: login, login, role: 'engineer', password: PASSWORD })).id
/** What the device shows; `off` steps of 30 s from now. */
const shown = (secret: string, off = 0) => new TOTP({ secret: Secret.fromBase32(secret) }).generate({ timestamp: Date.now() + off * 30_000 })
const enter = (login: string, code: string, password = PASSWORD) =>
  logIn(t.db, login, password, null, { secondFactor: (who) => passesSecondFactor(t.db, t.vault, who, code) })
/** Somebody with a second factor; codes of the step before now, so that those of now are still there. */
async function withDevice(login: string) {
  const id = await person(login)
  const { secret } = await beginSecondFactor(t.db, t.vault, id, PASSWORD)
  const codes = await confirmSecondFactor(t.db, t.vault, id, shown(secret, -1), null)
  return { id, secret, codes }
}

it('is set up by somebody who knows their password, with a code of the device; other sessions end', async () => {
  const id = await person('ines')
  const before = (await logIn(t.db, 'ines', PASSWORD, null))!
  expect(await failure(beginSecondFactor(t.db, t.vault, id, 'a guess'))).toMatchObject({ status: 422, fields: { password: expect.any(String) } })
  expect(await failure(confirmSecondFactor(t.db, t.vault, id, '123456', null))).toMatchObject({ code: 'second-factor.not-begun' })
  const { secret, uri } = await beginSecondFactor(t.db, t.vault, id, PASSWORD)
  expect(Secret.fromBase32(secret).bytes).toHaveLength(20)
  expect(uri).toMatch(new RegExp(`^otpauth://totp/Embrik:ines\\?issuer=Embrik&secret=${secret}&`))
  expect(await secondFactorOf(t.db, id)).toEqual({ since: null, codesLeft: 0 })
  // Not confirmed, it asks nothing of anybody.
  expect(await enter('ines', '')).not.toBeNull()
  expect(await failure(confirmSecondFactor(t.db, t.vault, id, shown(secret, -5), null))).toMatchObject({ fields: { code: expect.any(String) } })
  const own = (await logIn(t.db, 'ines', PASSWORD, null))!
  const codes = await confirmSecondFactor(t.db, t.vault, id, ` ${shown(secret).slice(0, 3)} ${shown(secret).slice(3)} `, own.token)
  expect(new Set(codes).size).toBe(10)
  for (const c of codes) expect(c).toMatch(/^[a-z2-7]{5}-[a-z2-7]{5}$/)
  expect(await sessionCaller(t.db, before.token)).toBeNull()
  expect(await sessionCaller(t.db, own.token)).not.toBeNull()
  expect((await listPeople(t.db)).find((p) => p.id === id)!.secondFactor).toBe(true)
})

it('asks for a code after the password, takes each once, and one a step off', async () => {
  const { secret } = await withDevice('tam')
  expect(await enter('tam', '')).toBeNull()
  // Who does not ask for it lets nobody in.
  expect(await logIn(t.db, 'tam', PASSWORD, null)).toBeNull()
  expect(await enter('tam', shown(secret), 'a guess')).toBeNull()
  const code = shown(secret)
  expect(await enter('tam', code)).not.toBeNull()
  expect(await enter('tam', code)).toBeNull()
  expect(await enter('tam', shown(secret, -1))).toBeNull()
  expect(await enter('tam', shown(secret, 1))).not.toBeNull()
  expect(await enter('tam', shown(secret, 4))).toBeNull()
})

it('a code that two send at once lets one of them in', async () => {
  const { secret } = await withDevice('wim')
  const code = shown(secret)
  const came = await Promise.all([1, 2, 3].map(() => enter('wim', code)))
  expect(came.filter((c) => c !== null)).toHaveLength(1)
})

it('codes are guessed no more often than passwords', async () => {
  const { secret } = await withDevice('vera')
  for (let i = 0; i < accountRule.free; i++) expect(await enter('vera', '000000')).toBeNull()
  expect(await failure(enter('vera', shown(secret)))).toMatchObject({ status: 429 })
})

it('without the device a recovery code lets in, once, and is told', async () => {
  const { id, codes } = await withDevice('lena')
  expect(await enter('lena', codes[3]!.toUpperCase().replace('-', ' '))).not.toBeNull()
  expect(await enter('lena', codes[3]!)).toBeNull()
  expect(await secondFactorOf(t.db, id)).toMatchObject({ codesLeft: 9 })
  expect((await listEvents(t.db, 20)).find((e) => e.code === 'access.recovery-code')).toMatchObject({ subject: 'lena', severity: 'warning' })
  // Those of somebody else help nobody.
  const other = await withDevice('odo')
  expect(await enter('lena', other.codes[0]!)).toBeNull()
})

it('ends by its owner with the password, or by an administrator, who ends the sessions too', async () => {
  const { id, secret } = await withDevice('ute')
  expect(await failure(endSecondFactor(t.db, id, 'a guess'))).toMatchObject({ fields: { password: expect.any(String) } })
  await endSecondFactor(t.db, id, PASSWORD)
  expect(await enter('ute', '')).not.toBeNull()
  const again = await withDevice('jan')
  const session = (await enter('jan', shown(again.secret)))!
  await resetSecondFactor(t.db, again.id)
  expect(await sessionCaller(t.db, session.token)).toBeNull()
  expect(await enter('jan', '')).not.toBeNull()
  expect(secret).not.toBe(again.secret)
})

it('its key stands in the database only sealed', async () => {
  const { id, secret } = await withDevice('nora')
  const row = await t.db.selectFrom('person').select('totp').where('id', '=', id).executeTakeFirstOrThrow()
  expect(row.totp!.toString('latin1')).not.toContain(secret)
  // Moved to somebody else's row it opens nothing.
  const thief = await person('thief')
  await t.db.updateTable('person').set({ totp: row.totp }).where('id', '=', thief).execute()
  expect((await failure(enter('thief', shown(secret)))).code).toBe('vault.unreadable')
})
