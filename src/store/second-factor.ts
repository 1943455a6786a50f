import { createHash } from 'node:crypto'
import { Secret, TOTP } from 'otpauth'
import { FailureError, fail } from '~/contract/failure'
import type { SecondFactor } from '~/contract/person'
import type { Conn, Db } from './database'
import { addEvents } from './event'
import { demandPassword, endOtherSessions } from './person'
import { transacted } from './transacted'
import type { Vault } from './vault'

/** A code holds for so long (RFC 6238 4.1), and that before and after it are taken too (5.2): clocks differ. */
const STEP_S = 30
const STEPS_OFF = 1
/** So many codes for when the device is lost, of 50 bits each. */
const RECOVERY_CODES = 10

const place = (personId: string) => `person:${personId}:totp`
const hashOf = (code: string) => createHash('sha256').update(code).digest()
/** As people type them: with spaces and dashes, in capitals or not. */
const bare = (code: string) => code.toLowerCase().replace(/[\s-]/g, '')

function totpOf(secret: Secret, label: string): TOTP {
  return new TOTP({ issuer: 'Embrik', label, secret, algorithm: 'SHA1', digits: 6, period: STEP_S })
}

/** A key of 160 bits (RFC 4226 4 R6) for somebody's device, once it is known that it is them; it holds when a code of it was confirmed. */
export async function beginSecondFactor(db: Db, vault: Vault, id: string, password: string): Promise<{ secret: string; uri: string }> {
  const { login } = await demandPassword(db, id, password, 'password')
  const secret = new Secret({ size: 20 })
  await db
    .updateTable('person')
    .set({ totp_pending: vault.seal(secret.base32, place(id)) })
    .where('id', '=', id)
    .execute()
  return { secret: secret.base32, uri: totpOf(secret, login).toString() }
}

/** Takes the key up; gives codes for when the device is lost, which are not shown again. Other sessions of the same person end. */
export async function confirmSecondFactor(db: Db, vault: Vault, id: string, code: string, token: string | null): Promise<string[]> {
  return transacted(db, async (tx) => {
    const row = await tx.selectFrom('person').select(['login', 'totp_pending']).where('id', '=', id).forUpdate().executeTakeFirst()
    if (!row?.totp_pending) throw fail(409, 'second-factor.not-begun', 'No second factor is being set up', 'Begin anew', 'web')
    const step = stepOf(Secret.fromBase32(vault.open(row.totp_pending, place(id))), row.login, code)
    if (step === null) throw wrongCode(422)
    await tx
      .updateTable('person')
      .set({ totp: row.totp_pending, totp_pending: null, totp_since: new Date(), totp_step: step })
      .where('id', '=', id)
      .execute()
    await endOtherSessions(tx, id, token)
    return newRecoveryCodes(tx, id)
  })
}

async function newRecoveryCodes(tx: Conn, id: string): Promise<string[]> {
  const codes = Array.from({ length: RECOVERY_CODES }, () => bare(new Secret({ size: 7 }).base32).slice(0, 10))
  await tx.deleteFrom('recovery_code').where('person_id', '=', id).execute()
  await tx
    .insertInto('recovery_code')
    .values(codes.map((c) => ({ person_id: id, code_hash: hashOf(c) })))
    .execute()
  return codes.map((c) => `${c.slice(0, 5)}-${c.slice(5)}`)
}

/** The step of time of which this is the code; null: of none near now. */
function stepOf(secret: Secret, label: string, code: string, now = Date.now()): number | null {
  const delta = totpOf(secret, label).validate({ token: bare(code), timestamp: now, window: STEPS_OFF })
  return delta === null ? null : Math.floor(now / 1000 / STEP_S) + delta
}

const wrongCode = (status: number) =>
  new FailureError(
    {
      code: 'second-factor.wrong',
      message: 'This is not the code of this moment',
      hint: 'Take the one that the device shows now, once. If none is taken, compare the clock of the device with that of this server',
      where: 'web',
      fields: { code: 'This is not the code of this moment' },
    },
    status,
  )

export async function secondFactorOf(db: Conn, id: string): Promise<SecondFactor> {
  const row = await db.selectFrom('person').select(['totp_since']).where('id', '=', id).executeTakeFirst()
  const left = await db
    .selectFrom('recovery_code')
    .select((f) => f.fn.countAll<number>().as('n'))
    .where('person_id', '=', id)
    .executeTakeFirst()
  return { since: row?.totp_since?.getTime() ?? null, codesLeft: Number(left?.n ?? 0) }
}

/** Without a second factor from now on. */
export async function dropSecondFactor(db: Db, id: string): Promise<void> {
  await transacted(db, async (tx) => {
    await tx.updateTable('person').set({ totp: null, totp_pending: null, totp_since: null }).where('id', '=', id).execute()
    await tx.deleteFrom('recovery_code').where('person_id', '=', id).execute()
  })
}

/** By its owner, who has to show that it is them. */
export async function endSecondFactor(db: Db, id: string, password: string): Promise<void> {
  await demandPassword(db, id, password, 'password')
  await dropSecondFactor(db, id)
}

/** By an administrator, for somebody who has lost device and codes: their sessions end. */
export async function resetSecondFactor(db: Db, id: string): Promise<void> {
  const there = await db.selectFrom('person').select('id').where('id', '=', id).executeTakeFirst()
  if (!there) throw fail(404, 'person.unknown', 'There is no such person', 'Refresh the list', 'web')
  await dropSecondFactor(db, id)
  await endOtherSessions(db, id, null)
}

interface Holder {
  id: string
  name: string
  login: string
  totp: Buffer | null
}

/** Whether somebody whose password was right may come in: a code of the device, each once, or one of those for when it is lost. */
export async function passesSecondFactor(db: Db, vault: Vault, who: Holder, code: string): Promise<boolean> {
  if (who.totp === null) return true
  const step = stepOf(Secret.fromBase32(vault.open(who.totp, place(who.id))), who.login, code)
  if (step !== null) {
    // A code that was taken is worth nothing any more, nor is one before it (RFC 6238 5.2).
    const taken = await db.updateTable('person').set({ totp_step: step }).where('id', '=', who.id).where('totp_step', '<', step).executeTakeFirst()
    return taken.numUpdatedRows === 1n
  }
  const used = await db
    .deleteFrom('recovery_code')
    .where('person_id', '=', who.id)
    .where('code_hash', '=', hashOf(bare(code)))
    .executeTakeFirst()
  if (used.numDeletedRows === 0n) return false
  const { codesLeft } = await secondFactorOf(db, who.id)
  await addEvents(db, [
    {
      severity: 'warning',
      where: 'web',
      subjectId: who.id,
      subject: who.name,
      code: 'access.recovery-code',
      message: `logged in with a recovery code; ${codesLeft} left`,
      hint: 'If that was not them, reset their second factor and password',
    },
  ])
  return true
}
