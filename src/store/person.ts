import { createHash, randomBytes } from 'node:crypto'
import { hash, verify } from '@node-rs/argon2'
import { FailureError, fail } from '~/contract/failure'
import { newId } from '~/contract/id'
import type { ApiKey, Caller, Person, PersonChange, PersonDraft, SetUp } from '~/contract/person'
import type { Role } from '~/contract/role'
import { attemptSucceeded, beginAttempt } from './attempt'
import { type Conn, type Db, explain } from './database'
import { addEvents } from './event'

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

const person = ['id', 'name', 'login', 'role'] as const

export async function listPeople(db: Conn): Promise<Person[]> {
  return db.selectFrom('person').select(person).orderBy('name').execute()
}

export async function addPerson(db: Conn, draft: PersonDraft, id = newId()): Promise<Person> {
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
  return db.transaction().execute(async (tx) => {
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
    if (change.password !== undefined || change.role !== undefined) await tx.deleteFrom('session').where('person_id', '=', id).execute()
    await keepAnAdministrator(tx)
    return row
  })
}

export async function removePerson(db: Db, id: string): Promise<void> {
  await db.transaction().execute(async (tx) => {
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

/** Checks log-in and password and opens a session; null when either is wrong. Refuses after too many wrong tries. */
export async function logIn(
  db: Db,
  login: string,
  password: string,
  address: string | null,
): Promise<{ token: string; expires: Date; person: Person } | null> {
  const name = login.trim().toLowerCase()
  const attempt = await beginAttempt(db, name, address)
  if (attempt.shutMs > 0) tooMany(attempt.shutMs)
  const row = await db.selectFrom('person').selectAll().where('login', '=', name).executeTakeFirst()
  decoy ??= hashPassword(randomBytes(16).toString('hex'))
  const right = await verify(row?.password_hash ?? (await decoy), password)
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
          message: `too many wrong passwords${address ? `, from ${address}` : ''}; the log-in is shut for a while`,
          hint: 'If that was not them, look where that address is',
        },
      ])
    return null
  }
  await attemptSucceeded(db, name, address)
  const token = randomBytes(32).toString('base64url')
  const expires = new Date(Date.now() + SESSION_MS)
  await db.deleteFrom('session').where('expires_at', '<', new Date()).execute()
  await db
    .insertInto('session')
    .values({ token_hash: digest(token), person_id: row.id, expires_at: expires, address })
    .execute()
  return { token, expires, person: { id: row.id, name: row.name, login: row.login, role: row.role } }
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
  if (now - row.seen_at.getTime() > 60_000)
    await db
      .updateTable('session')
      .set({ seen_at: new Date(now) })
      .where('token_hash', '=', row.token_hash)
      .execute()
  return { caller, renewed: null }
}

export async function listKeys(db: Conn): Promise<ApiKey[]> {
  const rows = await db.selectFrom('api_key').select(['id', 'name', 'role', 'prefix', 'last_used']).orderBy('name').execute()
  return rows.map(({ last_used, ...r }) => ({ ...r, lastUsed: last_used?.getTime() ?? null }))
}

/** Makes a key; its text is returned this once and not kept. */
export async function addKey(db: Conn, name: string, role: Role): Promise<{ key: string; stored: ApiKey }> {
  const key = `ek_${randomBytes(24).toString('base64url')}`
  const id = newId()
  const prefix = key.slice(0, 7)
  try {
    await db
      .insertInto('api_key')
      .values({ id, name, role, prefix, token_hash: digest(key), last_used: null })
      .execute()
  } catch (e) {
    throw explain(e, words)
  }
  return { key, stored: { id, name, role, prefix, lastUsed: null } }
}

export async function removeKey(db: Conn, id: string): Promise<void> {
  await db.deleteFrom('api_key').where('id', '=', id).execute()
}

export async function keyCaller(db: Conn, key: string): Promise<Caller | null> {
  const row = await db.selectFrom('api_key').select(['id', 'name', 'role', 'last_used']).where('token_hash', '=', digest(key)).executeTakeFirst()
  if (!row) return null
  if (!row.last_used || Date.now() - row.last_used.getTime() > 60_000)
    await db.updateTable('api_key').set({ last_used: new Date() }).where('id', '=', row.id).execute()
  return { kind: 'key', id: row.id, name: row.name, role: row.role }
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

/** The first administrator, against the token from the log; works once. */
export async function setUp(db: Db, input: SetUp, address: string | null = null): Promise<Person> {
  const attempt = await beginAttempt(db, null, address)
  if (attempt.shutMs > 0) tooMany(attempt.shutMs)
  return db.transaction().execute(async (tx) => {
    const row = await tx.selectFrom('installation').select('setup_token_hash').forUpdate().executeTakeFirst()
    if (!(await needsSetUp(tx))) throw fail(409, 'setup.done', 'There is an administrator already', 'Log in, or ask them for an account', 'web')
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
