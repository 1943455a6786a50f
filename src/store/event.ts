import { sql } from 'kysely'
import type { EventRow } from '~/contract/live'
import type { WentWrong } from '~/contract/wrong'
import type { Conn } from './database'

export type NewEvent = Omit<EventRow, 'id' | 'at'> & {
  at?: number
  /** One with the same token is there already: the same event. */
  token?: string
}

export async function addEvents(db: Conn, events: readonly NewEvent[]): Promise<void> {
  if (events.length === 0) return
  await db
    .insertInto('event')
    .values(
      events.map((e) => ({
        at: new Date(e.at ?? Date.now()),
        severity: e.severity,
        place: e.where,
        subject_id: e.subjectId,
        subject: e.subject,
        code: e.code,
        message: e.message,
        hint: e.hint,
        token: e.token ?? null,
      })),
    )
    .onConflict((c) => c.column('token').doNothing())
    .execute()
}

/** The newest first, or those between two times (epoch ms). */
export async function listEvents(db: Conn, limit: number, from?: number, to?: number): Promise<EventRow[]> {
  let query = db.selectFrom('event').selectAll().orderBy('id', 'desc').limit(limit)
  if (from !== undefined) query = query.where('at', '>=', new Date(from))
  if (to !== undefined) query = query.where('at', '<', new Date(to))
  const rows = await query.execute()
  return rows.map((r) => ({
    id: r.id,
    at: r.at.getTime(),
    severity: r.severity,
    where: r.place,
    subjectId: r.subject_id,
    subject: r.subject,
    code: r.code,
    message: r.message,
    hint: r.hint,
  }))
}

/** What went wrong since then (epoch ms), each kind of thing once, the latest first. */
export async function wentWrong(db: Conn, since: number, most = 100): Promise<WentWrong[]> {
  const rows = await sql<Omit<WentWrong, 'first' | 'last'> & { first: Date; last: Date }>`
    select (array_agg(severity order by id desc))[1] as severity, place as "where", subject_id as "subjectId", subject, code, count(*)::int as times,
      min(at) as first, max(at) as last, (array_agg(message order by id desc))[1] as cause, (array_agg(hint order by id desc))[1] as hint
    from event where at >= ${new Date(since)} and severity in ('warning', 'trouble')
    group by place, subject_id, subject, code order by max(at) desc limit ${most}`.execute(db)
  return rows.rows.map((r) => ({ ...r, first: r.first.getTime(), last: r.last.getTime() }))
}

/** Keeps the table bounded. */
export async function trimEvents(db: Conn, keep: number): Promise<void> {
  await sql`delete from event where id < (select id from event order by id desc offset ${keep} limit 1)`.execute(db)
}
