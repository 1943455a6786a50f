import { createHash, randomBytes } from 'node:crypto'
import { hash, verify } from '@node-rs/argon2'
import { sql } from 'kysely'
import { FailureError, fail } from '~/contract/failure'
import { newId } from '~/contract/id'
import { commonness } from '~/contract/password'
import type { ApiKey, ApiKeyDraft, Caller, OpenSession, Person, PersonChange, PersonDraft, SetUp } from '~/contract/person'
import { allows } from '~/contract/role'
import { attemptSucceeded, beginAttempt } from './attempt'
import { type Conn, type Db, explain } from './database'
import { addEvents } from './event'
import { transacted } from './transacted'

const words = {
  person_login: { field: 'login', message: 'Somebody has this log-in already' },
  api_key_name: { field: 'name', message: 'Another key has this name' },
}

/** A session lives so long at most, and so long without a request. */
const SESSION_MS = 12 * 3600_000
const IDLE_MS = 2 * 3600_000
/** Its token is changed after so long; the one before stays good for a moment, for requests under way. */
const ROTATE_MS = 3600_000
const GRACE_MS = 60_000
const digest = (token: string) => createHash('sha256').update(token).digest()

/** Argon2id (RFC 9106) with 19 MiB, two passes, one lane. */
const hashPassword = (password: string) => hash(password, { algorithm: 2, memoryCost: 19_456, timeCost: 2, parallelism: 1 })

// What an unknown log-in is verified against, so that it takes as long as a known one.
let decoy: Promise<string> | null = null

const person = ['id', 'name', 'login', 'role', sql<boolean>`totp is not null`.as('secondFactor')] as const

export async function listPeople(db: Conn): Promise<Person[]> {
  return db.selectFrom('person').select(person).orderBy('name').execute()
}

/** Refuses a password that is made of its owner's names. */
function demandUncommon(password: string, names: readonly string[], field = 'password'): void {
  const common = commonness(password, names)
  if (common !== null)
    throw new FailureError(
      {
        code: 'person.common-password',
        message: common,
        hint: 'Take several words that nobody would connect with you',
        where: 'web',
        fields: { [field]: common },
      },
      422,
    )
}

export async function addPerson(db: Conn, draft: PersonDraft, id = newId()): Promise<Person> {
  demandUncommon(draft.password, [draft.name, draft.login])
  try {
    return await db
      .insertInto('person')
      .values({ id, name: draft.name, login: draft.login, role: draft.role, password_hash: await hashPassword(draft.password) })
      .returning(person)
      .executeTakeFirstOrThrow()
  } catch (e) {
    throw explain(e, words)
  }
}

async function keepAnAdministrator(tx: Conn): Promise<void> {
  const left = await tx.selectFrom('person').select('id').where('role', '=', 'administrator').limit(1).execute()
  if (left.length === 0)
    throw fail(409, 'person.last-administrator', 'This would leave no administrator', 'Make somebody else administrator first', 'web')
}

/** Changes name, role or password; a new password or role ends that person's sessions. */
export async function changePerson(db: Db, id: string, change: PersonChange): Promise<Person> {
  const password_hash = change.password ? await hashPassword(change.password) : undefined
  return transacted(db, async (tx) => {
    const row = await tx
      .updateTable('person')
      .set({
        ...(change.name !== undefined && { name: change.name }),
        ...(change.role !== undefined && { role: change.role }),
        ...(password_hash !== undefined && { password_hash }),
        id,
      })
      .where('id', '=', id)
      .returning(person)
      .executeTakeFirst()
    if (!row) throw fail(404, 'person.unknown', 'There is no such person', 'Refresh the list', 'web')
    if (change.password) demandUncommon(change.password, [row.name, row.login])
    if (change.password !== undefined || change.role !== undefined) await tx.deleteFrom('session').where('person_id', '=', id).execute()
    await keepAnAdministrator(tx)
    return row
  })
}

/** Refuses what somebody asks for who does not know their own password, as often as a log-in would. */
export async function demandPassword(db: Db, id: string, typed: string, field: string): Promise<{ name: string; login: string }> {
  const row = await db.selectFrom('person').selectAll().where('id', '=', id).executeTakeFirst()
  if (!row) throw fail(404, 'person.unknown', 'There is no such person', 'Log in again', 'web')
  const attempt = await beginAttempt(db, row.login, null)
  if (attempt.shutMs > 0) tooMany(attempt.shutMs)
  if (!(await verify(row.password_hash, typed)))
    throw new FailureError(
      {
        code: 'person.wrong-password',
        message: 'This is not your password',
        hint: 'Type the one that you log in with',
        where: 'web',
        fields: { [field]: 'This is not your password' },
      },
      422,
    )
  await attemptSucceeded(db, row.login, null)
  return row
}

/** Ends all sessions of a person but one. */
export async function endOtherSessions(db: Conn, personId: string, token: string | null): Promise<void> {
  await db
    .deleteFrom('session')
    .where('person_id', '=', personId)
    .$if(token !== null, (q) => q.where('token_hash', '!=', digest(token!)))
    .execute()
}

/** Changes one's own password; other sessions of the same person end, and browsers are strangers again. */
export async function changePassword(db: Db, id: string, current: string, next: string, token: string | null): Promise<void> {
  const row = await demandPassword(db, id, current, 'current')
  demandUncommon(next, [row.name, row.login], 'next')
  const password_hash = await hashPassword(next)
  await transacted(db, async (tx) => {
    await tx.updateTable('person').set({ password_hash }).where('id', '=', id).execute()
    await endOtherSessions(tx, id, token)
    await tx.deleteFrom('known_device').where('person_id', '=', id).execute()
  })
}

/** Log-ins of a person that still stand, the newest first. */
export async function listSessions(db: Conn, personId: string, token: string | null): Promise<OpenSession[]> {
  const rows = await db
    .selectFrom('session')
    .select(['id', 'created_at', 'seen_at', 'address', 'token_hash'])
    .where('person_id', '=', personId)
    .where('expires_at', '>', new Date())
    .where('seen_at', '>', new Date(Date.now() - IDLE_MS))
    .orderBy('created_at', 'desc')
    .execute()
  const own = token === null ? null : digest(token)
  return rows.map((r) => ({
    id: r.id,
    createdAt: r.created_at.getTime(),
    seenAt: r.seen_at.getTime(),
    address: r.address,
    own: own?.equals(r.token_hash) ?? false,
  }))
}

/** Ends a log-in of a person; nobody ends those of others by it. */
export async function endSession(db: Conn, personId: string, id: string): Promise<void> {
  const ended = await db.deleteFrom('session').where('id', '=', id).where('person_id', '=', personId).executeTakeFirst()
  if (ended.numDeletedRows === 0n) throw fail(404, 'session.unknown', 'There is no such session', 'It may have ended: refresh the list', 'web')
}

export async function removePerson(db: Db, id: string): Promise<void> {
  await transacted(db, async (tx) => {
    await tx.deleteFrom('person').where('id', '=', id).execute()
    await keepAnAdministrator(tx)
  })
}

function tooMany(ms: number): never {
  const seconds = Math.ceil(ms / 1000)
  throw new FailureError(
    {
      code: 'access.too-many',
      message: 'Too many wrong tries',
      hint: `Wait ${seconds} s, then try again`,
      where: 'web',
      retryS: seconds,
    },
    429,
  )
}

export interface LogInOptions {
  /** By which this browser is known. */
  device?: string | null
  /** Asked of those who have a second factor, once their password was right. */
  secondFactor?: (who: { id: string; name: string; login: string; totp: Buffer | null }) => Promise<boolean>
}

/** Checks log-in and password, and the second factor where there is one, and opens a session; null when any is wrong. Refuses after too many wrong tries. */
export async function logIn(
  db: Db,
  login: string,
  password: string,
  address: string | null,
  { device = null, secondFactor = async (who) => who.totp === null }: LogInOptions = {},
): Promise<{ token: string; expires: Date; person: Person; device: string } | null> {
  const name = login.trim().toLowerCase()
  // Whoever guesses at an account shuts it for strangers, not for browsers in which its owner has logged in before.
  const known = device !== null && (await knowsDevice(db, name, device)) ? device : null
  const attempt = await beginAttempt(db, name, address, known)
  if (attempt.shutMs > 0) tooMany(attempt.shutMs)
  const row = await db.selectFrom('person').selectAll().where('login', '=', name).executeTakeFirst()
  decoy ??= hashPassword(randomBytes(16).toString('hex'))
  const knows = await verify(row?.password_hash ?? (await decoy), password)
  const right = knows && row !== undefined && (await secondFactor(row))
  if (!row || !right) {
    if (attempt.last)
      await addEvents(db, [
        {
          severity: 'warning',
          where: 'web',
          subjectId: row?.id ?? null,
          // A name that nobody has may be a password in the wrong field.
          subject: row?.name ?? 'an unknown log-in',
          code: 'access.too-many',
          message: `too many wrong passwords or codes${address ? `, from ${address}` : ''}; the log-in is shut for a while`,
          hint: 'If that was not them, look where that address is',
        },
      ])
    return null
  }
  await attemptSucceeded(db, name, address, known)
  const { token, expires } = await openSession(db, row.id, address)
  const { id, role } = row
  const who: Person = { id, name: row.name, login: row.login, role, secondFactor: row.totp !== null }
  return { token, expires, person: who, device: await rememberDevice(db, row.id, known) }
}

/** Begins a session for somebody of whom it is known who they are. */
async function openSession(db: Conn, personId: string, address: string | null): Promise<{ token: string; expires: Date }> {
  const token = randomBytes(32).toString('base64url')
  const expires = new Date(Date.now() + SESSION_MS)
  await db.deleteFrom('session').where('expires_at', '<', new Date()).execute()
  await db
    .insertInto('session')
    .values({ token_hash: digest(token), person_id: personId, expires_at: expires, address })
    .execute()
  return { token, expires }
}

/** A log-in that is free, from what somebody is called elsewhere: nobody becomes another by a name. */
async function freeLogin(db: Conn, wanted: string): Promise<string> {
  const base = wanted
    .toLowerCase()
    .replace(/@.*$/, '')
    .replace(/[^a-z0-9._-]+/g, '-')
    .replace(/^[._-]+/, '')
    .slice(0, 34)
  const name = base.length < 2 ? `person-${base}` : base
  for (let n = 1; ; n++) {
    const login = n === 1 ? name : `${name}-${n}`
    if (!(await db.selectFrom('person').select('id').where('login', '=', login).executeTakeFirst())) return login
  }
}

/**
 * Opens a session for somebody who logged in at a provider. Known there under the same subject they are the same person here,
 * whatever they are called; their name and role are those that the provider says now.
 */
export async function signOn(
  db: Db,
  who: { issuer: string; subject: string; name: string; login: string; role: Person['role'] },
  address: string | null,
): Promise<{ token: string; expires: Date; person: Person }> {
  const { issuer, subject, role } = who
  const name = who.name.trim().slice(0, 80) || subject.slice(0, 80)
  return transacted(db, async (tx) => {
    // Two log-ins of somebody new at once make one person.
    await sql`select pg_advisory_xact_lock(hashtext(${`sign-on ${issuer} ${subject}`}))`.execute(tx)
    const known = await tx.selectFrom('person').select(['id', 'role']).where('issuer', '=', issuer).where('subject', '=', subject).executeTakeFirst()
    const id = known?.id ?? newId()
    if (known) {
      if (known.role !== role) await endOtherSessions(tx, id, null)
      await tx.updateTable('person').set({ name, role }).where('id', '=', id).execute()
      await keepAnAdministrator(tx)
    } else {
      const login = await freeLogin(tx, who.login)
      // Nobody knows it: they come in by the provider only, until an administrator gives them a password.
      const password_hash = await hashPassword(randomBytes(32).toString('base64url'))
      await tx.insertInto('person').values({ id, name, login, role, password_hash, issuer, subject }).execute()
    }
    const made = await tx.selectFrom('person').select(person).where('id', '=', id).executeTakeFirstOrThrow()
    return { ...(await openSession(tx, id, address)), person: made }
  })
}

/** So many browsers are remembered of one person. */
const DEVICES_MAX = 20

async function knowsDevice(db: Conn, login: string, device: string): Promise<boolean> {
  const row = await db
    .selectFrom('known_device as d')
    .innerJoin('person as p', 'p.id', 'd.person_id')
    .select('p.id')
    .where('d.token_hash', '=', digest(device))
    .where('p.login', '=', login)
    .executeTakeFirst()
  return row !== undefined
}

/** Gives what the browser is known by from now on. */
async function rememberDevice(db: Conn, personId: string, known: string | null): Promise<string> {
  const device = known ?? randomBytes(24).toString('base64url')
  await db
    .insertInto('known_device')
    .values({ token_hash: digest(device), person_id: personId })
    .onConflict((c) => c.column('token_hash').doUpdateSet({ seen_at: new Date() }))
    .execute()
  await sql`delete from known_device where person_id = ${personId} and token_hash in (
    select token_hash from known_device where person_id = ${personId} order by seen_at desc offset ${DEVICES_MAX})`.execute(db)
  return device
}

export async function logOut(db: Conn, token: string): Promise<void> {
  const hash = digest(token)
  await db
    .deleteFrom('session')
    .where((e) => e.or([e('token_hash', '=', hash), e('previous_hash', '=', hash)]))
    .execute()
}

/**
 * Whose session this is; null when it ended. `renewed` is a new token for it, to be sent back: the old one is good for
 * another minute.
 */
export async function sessionCaller(
  db: Conn,
  token: string,
  { now = Date.now(), renew = true } = {},
): Promise<{ caller: Caller; renewed: { token: string; expires: Date } | null } | null> {
  const hash = digest(token)
  const row = await db
    .selectFrom('session as s')
    .innerJoin('person as p', 'p.id', 's.person_id')
    .select(['p.id', 'p.name', 'p.role', 's.token_hash', 's.rotated_at', 's.seen_at', 's.expires_at'])
    .where((e) => e.or([e('s.token_hash', '=', hash), e.and([e('s.previous_hash', '=', hash), e('s.rotated_at', '>', new Date(now - GRACE_MS))])]))
    .where('s.expires_at', '>', new Date(now))
    .where('s.seen_at', '>', new Date(now - IDLE_MS))
    .executeTakeFirst()
  if (!row) return null
  const { id, name, role } = row
  const caller: Caller = { kind: 'person', id, name, role }
  const present = row.token_hash.equals(hash)
  if (renew && present && now - row.rotated_at.getTime() > ROTATE_MS) {
    const next = randomBytes(32).toString('base64url')
    const moved = await db
      .updateTable('session')
      .set({ token_hash: digest(next), previous_hash: hash, rotated_at: new Date(now), seen_at: new Date(now) })
      .where('token_hash', '=', hash)
      .executeTakeFirst()
    return { caller, renewed: moved.numUpdatedRows === 1n ? { token: next, expires: row.expires_at } : null }
  }
  // Only what somebody does keeps a session alive, not a stream that looks whether it may go on.
  if (renew && now - row.seen_at.getTime() > 60_000)
    await db
      .updateTable('session')
      .set({ seen_at: new Date(now) })
      .where('token_hash', '=', row.token_hash)
      .execute()
  return { caller, renewed: null }
}

export async function listKeys(db: Conn): Promise<ApiKey[]> {
  const rows = await db
    .selectFrom('api_key as k')
    .leftJoin('person as p', 'p.id', 'k.owner_id')
    .select(['k.id', 'k.name', 'k.role', 'k.prefix', 'k.last_used', 'k.ends_at', 'p.name as owner'])
    .orderBy('k.name')
    .execute()
  return rows.map(({ last_used, ends_at, ...r }) => ({ ...r, lastUsed: last_used?.getTime() ?? null, endsAt: ends_at?.getTime() ?? null }))
}

const DAY_MS = 86_400_000

/** Makes a key; its text is returned this once and not kept. `ownerId`: who answers for it; null: the installation itself. */
export async function addKey(db: Conn, draft: ApiKeyDraft, ownerId: string | null): Promise<{ key: string; stored: ApiKey }> {
  const key = `ek_${randomBytes(24).toString('base64url')}`
  const id = newId()
  const prefix = key.slice(0, 7)
  const ends_at = new Date(Date.now() + draft.days * DAY_MS)
  try {
    await db
      .insertInto('api_key')
      .values({ id, name: draft.name, role: draft.role, prefix, token_hash: digest(key), last_used: null, owner_id: ownerId, ends_at })
      .execute()
  } catch (e) {
    throw explain(e, words)
  }
  return { key, stored: (await listKeys(db)).find((k) => k.id === id)! }
}

export async function removeKey(db: Conn, id: string): Promise<void> {
  await db.deleteFrom('api_key').where('id', '=', id).execute()
}

/** Who answers for a key; null: the installation itself. */
export async function keyOwner(db: Conn, id: string): Promise<string | null> {
  return (await db.selectFrom('api_key').select('owner_id').where('id', '=', id).executeTakeFirst())?.owner_id ?? null
}

/** Whose key this is; null when it is none, or has ended. It may no more than its owner may now. */
export async function keyCaller(db: Conn, key: string, now = Date.now()): Promise<Caller | null> {
  const row = await db
    .selectFrom('api_key as k')
    .leftJoin('person as p', 'p.id', 'k.owner_id')
    .select(['k.id', 'k.name', 'k.role', 'k.last_used', 'k.ends_at', 'p.role as ownerRole'])
    .where('k.token_hash', '=', digest(key))
    .executeTakeFirst()
  if (!row || (row.ends_at && row.ends_at.getTime() <= now)) return null
  if (!row.last_used || now - row.last_used.getTime() > 60_000)
    await db
      .updateTable('api_key')
      .set({ last_used: new Date(now) })
      .where('id', '=', row.id)
      .execute()
  const role = row.ownerRole && !allows(row.ownerRole, row.role) ? row.ownerRole : row.role
  return { kind: 'key', id: row.id, name: row.name, role }
}

/** Makes a new set-up token as long as there is nobody who could log in; null when there is. */
export async function setUpToken(db: Db): Promise<string | null> {
  const somebody = await db.selectFrom('person').select('id').limit(1).executeTakeFirst()
  if (somebody) return null
  const token = randomBytes(12).toString('base64url')
  await db
    .updateTable('installation')
    .set({ setup_token_hash: digest(token) })
    .execute()
  return token
}

export async function needsSetUp(db: Conn): Promise<boolean> {
  return !(await db.selectFrom('person').select('id').limit(1).executeTakeFirst())
}

const setUpDone = () => fail(409, 'setup.done', 'There is an administrator already', 'Log in, or ask them for an account', 'web')

/** The first administrator, against the token from the log; works once. */
export async function setUp(db: Db, input: SetUp, address: string | null = null): Promise<Person> {
  // Once it is done there is nothing to guess, and no try to be counted.
  if (!(await needsSetUp(db))) throw setUpDone()
  const attempt = await beginAttempt(db, null, address)
  if (attempt.shutMs > 0) tooMany(attempt.shutMs)
  return transacted(db, async (tx) => {
    const row = await tx.selectFrom('installation').select('setup_token_hash').forUpdate().executeTakeFirst()
    if (!(await needsSetUp(tx))) throw setUpDone()
    if (!row?.setup_token_hash?.equals(digest(input.token.trim())))
      throw fail(
        403,
        'setup.token',
        'This is not the set-up token',
        'It is printed in the log at each start until the first administrator exists',
        'web',
      )
    const made = await addPerson(tx, { name: input.name, login: input.login, password: input.password, role: 'administrator' })
    await tx.updateTable('installation').set({ setup_token_hash: null }).execute()
    return made
  })
}

export async function installationCode(db: Conn): Promise<string> {
  return (await db.selectFrom('installation').select('code').executeTakeFirstOrThrow()).code
}
