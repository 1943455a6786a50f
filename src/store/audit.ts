import { type Selectable, sql } from 'kysely'
import type { AuditQuery, AuditRow } from '~/contract/audit'
import type { Conn } from './database'
import type { Tables } from './tables'

export type NewAudit = Omit<AuditRow, 'id' | 'at'> & { whoId: string | null }

/** Adds one act. Rows are only ever added: the database refuses to change or remove them. */
export async function addAudit(db: Conn, a: NewAudit): Promise<void> {
  await db
    .insertInto('audit')
    .values({
      who: a.who,
      who_id: a.whoId,
      via: a.via,
      address: a.address,
      act: a.act,
      subject_kind: a.subjectKind,
      subject_id: a.subjectId,
      subject: a.subject,
      before: a.before === undefined || a.before === null ? null : JSON.stringify(a.before),
      after: a.after === undefined || a.after === null ? null : JSON.stringify(a.after),
    })
    .execute()
}

/** The newest first. */
export async function listAudit(db: Conn, q: AuditQuery): Promise<AuditRow[]> {
  let rows = db.selectFrom('audit').selectAll().orderBy('id', 'desc').limit(q.limit)
  if (q.before !== undefined) rows = rows.where('id', '<', q.before)
  if (q.text !== '') {
    const like = `%${q.text.replace(/[\\%_]/g, '\\$&')}%`
    rows = rows.where(sql<boolean>`(who ilike ${like} or act ilike ${like} or subject ilike ${like})`)
  }
  return (await rows.execute()).map(toRow)
}

/** Those after one of them, the oldest first: for all of it, page by page. */
export async function auditAfter(db: Conn, id: number, limit: number): Promise<AuditRow[]> {
  return (await db.selectFrom('audit').selectAll().where('id', '>', id).orderBy('id').limit(limit).execute()).map(toRow)
}

const toRow = (r: Selectable<Tables['audit']>): AuditRow => ({
  id: r.id,
  at: r.at.getTime(),
  who: r.who,
  via: r.via,
  address: r.address,
  act: r.act,
  subjectKind: r.subject_kind,
  subjectId: r.subject_id,
  subject: r.subject,
  before: r.before,
  after: r.after,
})
