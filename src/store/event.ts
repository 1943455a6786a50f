import { sql } from 'kysely'
import type { EventLine, EventRow } from '~/contract/live'
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

/** So many of the worst events of a slice are told. */
const TOLD = 3

/** Events between two times (epoch ms) by slices that begin at the first, the worst of each told; and versions that went live. */
export async function eventLine(db: Conn, from: number, to: number, sliceMs: number): Promise<EventLine> {
  const span = [new Date(from), new Date(to)] as const
  const slice = (column: string) => sql<number>`floor((extract(epoch from ${sql.ref(column)}) * 1000 - ${from}::float8) / ${sliceMs}::float8)::int`
  const { rows } = await sql<{ n: number; severity: EventRow['severity']; count: number; told: string[] }>`
    select ${slice('at')} as n, severity, count(*)::int as count, (array_agg(subject || ': ' || message order by id desc))[1:${sql.lit(TOLD)}] as told
    from event where at >= ${span[0]} and at < ${span[1]} group by 1, 2`.execute(db)
  const worst = ['good', 'note', 'warning', 'trouble'] as const
  const slices = new Map<number, EventLine['slices'][number]>()
  for (const { n, severity, count, told } of rows) {
    const there = slices.get(n)
    if (!there) slices.set(n, { start: from + n * sliceMs, severity, count, told })
    else {
      there.count += count
      if (worst.indexOf(severity) > worst.indexOf(there.severity)) Object.assign(there, { severity, told })
    }
  }
  const versions = await sql<{ n: number; publicationId: string; number: number; by: string }>`
    select ${slice('made_at')} as n, publication_id as "publicationId", number, made_by as by
    from publication_version where made_at >= ${span[0]} and made_at < ${span[1]} order by made_at`.execute(db)
  return {
    slices: [...slices.values()].sort((a, b) => a.start - b.start),
    versions: versions.rows.map(({ n, ...v }) => ({ start: from + n * sliceMs, ...v })),
  }
}
