import { sql } from 'kysely'
import type { Plan } from '~/contract/publication'
import type { LeftBehind } from '~/core/address/kind'
import type { Conn } from './database'

/** What a plan sends is not to be taken back any more, if an earlier version left that to be done. */
export async function sendsAgain(db: Conn, plan: Plan): Promise<void> {
  const waiting = (await toTakeBack(db, plan.delivery)).get(plan.delivery) ?? []
  const sent = waiting.filter((l) => plan.messages.some((m) => m.place === l.place && (l.key === '' || m.key === l.key)))
  if (sent.length > 0) await tookBack(db, plan.delivery, sent)
}

export async function takeBackLater(db: Conn, delivery: number, left: readonly LeftBehind[]): Promise<void> {
  const [places, keys] = [left.map((l) => l.place), left.map((l) => l.key)]
  await sql`insert into taken_back (delivery, place, key) select ${delivery}, * from unnest(${places}::text[], ${keys}::text[])
    on conflict do nothing`.execute(db)
}

/** What is to be taken back from destinations, by delivery; of one delivery, or of all. */
export async function toTakeBack(db: Conn, only?: number): Promise<Map<number, LeftBehind[]>> {
  const left = new Map<number, LeftBehind[]>()
  let query = db.selectFrom('taken_back').selectAll().orderBy('place').orderBy('key')
  if (only !== undefined) query = query.where('delivery', '=', only)
  for (const { delivery, place, key } of await query.execute()) left.set(delivery, [...(left.get(delivery) ?? []), { place, key }])
  return left
}

export async function tookBack(db: Conn, delivery: number, left: readonly LeftBehind[]): Promise<void> {
  const [places, keys] = [left.map((l) => l.place), left.map((l) => l.key)]
  await sql`delete from taken_back where delivery = ${delivery}
    and (place, key) in (select * from unnest(${places}::text[], ${keys}::text[]))`.execute(db)
}
