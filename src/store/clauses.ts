import { FailureError, fail } from '~/contract/failure'
import type { Looked } from '~/contract/preflight'
import type { Publication, PublicationDraft } from '~/contract/publication'
import { sharedOf } from '~/core/publication/clauses'
import { sortedText } from '~/core/value/sorted-text'
import type { Conn } from './database'
import { getPublication, publicationsWhere } from './publication'

/** So many further clauses a publication may have. */
const CLAUSES_MOST = 8

/** A publication with all its further clauses, itself first; asked for by any of them. */
export async function wholeOf(db: Conn, id: string): Promise<Publication[]> {
  const asked = await getPublication(db, id)
  const rootId = asked.alsoOf ?? asked.id
  const root = rootId === asked.id ? asked : await getPublication(db, rootId)
  return [root, ...(await publicationsWhere(db, (q) => q.where('also_of', '=', rootId)))]
}

/** The same; nobody else changes any of it until this transaction ends. */
export async function lockWhole(tx: Conn, id: string): Promise<Publication[]> {
  const { alsoOf } = await getPublication(tx, id)
  const rootId = alsoOf ?? id
  await tx
    .selectFrom('publication')
    .select('id')
    .where((q) => q.or([q('id', '=', rootId), q('also_of', '=', rootId)]))
    .orderBy('id')
    .forUpdate()
    .execute()
  return wholeOf(tx, rootId)
}

/** Refuses what was changed since somebody looked at it: clauses that go live, each as it was then. */
export function demandAsLooked(name: string, looked: readonly Looked[], now: readonly Looked[]): void {
  const versions = new Map(looked.map((l) => [l.id, l.version]))
  const same = now.length === looked.length && now.every((c) => versions.get(c.id) === c.version)
  if (!same) throw fail(409, 'publication.changed', `${name} was changed since it was looked at`, 'Look at its preflight again', 'publication')
}

const wrongRoot = (message: string) =>
  new FailureError(
    { code: 'publication.clause', message, hint: 'Begin a publication of its own', where: 'publication', fields: { alsoOf: message } },
    422,
  )

/** What a further clause has from its publication is that of now, whatever was handed in. */
export async function asClause(tx: Conn, draft: PublicationDraft): Promise<PublicationDraft> {
  if (draft.alsoOf === undefined) {
    const { off: _o, ...whole } = draft
    return whole
  }
  const row = await tx.selectFrom('publication').select('id').where('id', '=', draft.alsoOf).forUpdate().executeTakeFirst()
  if (!row) throw wrongRoot('There is no such publication')
  const root = await getPublication(tx, draft.alsoOf)
  if (root.alsoOf !== undefined) throw wrongRoot(`${root.name} is a further clause itself`)
  return sharedOf(root, draft)
}

export async function demandRoom(tx: Conn, { alsoOf }: PublicationDraft): Promise<void> {
  if (alsoOf === undefined) return
  const others = (await wholeOf(tx, alsoOf)).length - 1
  if (others >= CLAUSES_MOST) throw wrongRoot(`A publication has ${CLAUSES_MOST} further clauses at most`)
}

/** No publication becomes a clause of another one, or none, later on: its account would be somebody else's. */
export function demandSamePlace(now: Publication, draft: PublicationDraft): void {
  if (now.alsoOf === draft.alsoOf) return
  const message = now.alsoOf === undefined ? `${now.name} is no further clause` : `${now.name} is a further clause, of its own publication`
  throw fail(409, 'publication.clause', message, 'Begin another one like it', 'publication')
}

/** What has changed of equipment, trigger, pace and steps changes in its further clauses too. */
export async function handOn(tx: Conn, before: Publication, now: PublicationDraft): Promise<void> {
  if (before.alsoOf !== undefined || sortedText(sharedOf(before)) === sortedText(sharedOf(now))) return
  for (const clause of (await wholeOf(tx, before.id)).slice(1)) {
    const { id, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...draft } = clause
    await tx
      .updateTable('publication')
      .set((q) => ({ draft: JSON.stringify(sharedOf(now, draft)), version: q('version', '+', 1) }))
      .where('id', '=', id)
      .execute()
  }
}
