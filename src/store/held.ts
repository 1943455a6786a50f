import { sql } from 'kysely'
import type { WireScalar } from '~/contract/value'
import type { Scalar } from '~/core/value/deadband'
import { fromWire, toWire } from '~/core/value/wire'
import type { Db } from './database'

export interface Held {
  tagId: string
  value: Scalar
  /** Epoch ms. */
  at: number
  /** The start of the machine during which it was held. */
  boot: string
}

/** All held values; those of tags that hold nothing any more are dropped. */
export async function loadHeld(db: Db): Promise<Held[]> {
  await sql`delete from held_value v using tag t where t.id = v.tag_id and t.hold = 'nothing'`.execute(db)
  const rows = await db.selectFrom('held_value').selectAll().execute()
  return rows.map((r) => ({ tagId: r.tag_id, value: fromWire(r.value as WireScalar), at: r.at.getTime(), boot: r.boot }))
}

/** Keeps these as the last ones; tags that are gone meanwhile are left out. */
export async function saveHeld(db: Db, held: readonly Held[]): Promise<void> {
  await sql`insert into held_value (tag_id, value, at, boot)
    select d.id, d.value, to_timestamp(d.at / 1000), d.boot
    from jsonb_to_recordset(${JSON.stringify(held.map((h) => ({ id: h.tagId, value: toWire(h.value), at: h.at, boot: h.boot })))}::jsonb)
      as d(id uuid, value jsonb, at float8, boot text) where exists (select from tag where tag.id = d.id)
    on conflict (tag_id) do update set value = excluded.value, at = excluded.at, boot = excluded.boot`.execute(db)
}
