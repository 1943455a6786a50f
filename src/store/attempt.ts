import { createHash } from 'node:crypto'
import { sql } from 'kysely'
import { type AttemptRule, accountRule, addressRule, shutMs } from '~/core/credential/attempts'
import type { Conn, Db } from './database'
import { transacted } from './transacted'

/** What is tried upon: kept as a hash, since people type passwords into the wrong field. */
const subject = (kind: 'account' | 'address' | 'device', text: string) => createHash('sha256').update(`${kind} ${text}`).digest()

interface Side {
  key: Buffer
  rule: AttemptRule
}

function sides(login: string | null, address: string | null, device: string | null): Side[] {
  if (device !== null) return [{ key: subject('device', `${login} ${device}`), rule: accountRule }]
  return [
    ...(login === null ? [] : [{ key: subject('account', login), rule: accountRule }]),
    ...(address === null ? [] : [{ key: subject('address', address), rule: addressRule }]),
  ]
}

/**
 * Begins a try: counts it as failed beforehand, so that tries made at once don't pass together. `shutMs` is for how long the
 * door is still shut; then nothing was counted and nothing may be tried. `last`: if this one fails, the door shuts. A `device`
 * from which the account's owner came before has a door of its own.
 */
export async function beginAttempt(
  db: Db,
  login: string | null,
  address: string | null,
  device: string | null = null,
): Promise<{ shutMs: number; last: boolean }> {
  const all = sides(login, address, device)
  return transacted(db, async (tx) => {
    const now = Date.now()
    const rows = []
    for (const { key, rule } of all) {
      await tx
        .insertInto('log_in_attempt')
        .values({ subject: key, failures: 0, last_at: new Date(now), shut_until: null })
        // Whoever tries at the same time waits here until this one is counted. One whose try was right may take the row away meanwhile:
        // what is written, and not only looked for, is there then.
        .onConflict((c) => c.column('subject').doUpdateSet({ subject: key }))
        .execute()
      const row = await tx.selectFrom('log_in_attempt').selectAll().where('subject', '=', key).forUpdate().executeTakeFirstOrThrow()
      const shut = (row.shut_until?.getTime() ?? 0) - now
      if (shut > 0) return { shutMs: shut, last: false }
      rows.push({ key, rule, failures: now - row.last_at.getTime() > rule.forgetMs ? 1 : row.failures + 1 })
    }
    let last = false
    for (const { key, rule, failures } of rows) {
      const ms = shutMs(rule, failures)
      if (ms > 0) last = true
      await tx
        .updateTable('log_in_attempt')
        .set({ failures, last_at: new Date(now), shut_until: ms > 0 ? new Date(now + ms) : null })
        .where('subject', '=', key)
        .execute()
    }
    return { shutMs: 0, last }
  })
}

/** The try was right: the account's failures are forgotten, and the address loses the one that was counted beforehand. */
export async function attemptSucceeded(db: Conn, login: string | null, address: string | null, device: string | null = null): Promise<void> {
  if (device !== null) {
    // What strangers tried at the account stays counted against them.
    await db
      .deleteFrom('log_in_attempt')
      .where('subject', '=', subject('device', `${login} ${device}`))
      .execute()
    return
  }
  if (login !== null) await db.deleteFrom('log_in_attempt').where('subject', '=', subject('account', login)).execute()
  if (address !== null)
    await sql`update log_in_attempt set failures = greatest(0, failures - 1), shut_until = null where subject = ${subject('address', address)}`.execute(
      db,
    )
  await sql`delete from log_in_attempt where last_at < now() - interval '1 day'`.execute(db)
}
