import { sql } from 'kysely'
import type { Db } from '~/store/database'

/** Makes ready a disk that can be full. */
export async function breakable(db: Db): Promise<void> {
  const words = 'could not extend file: No space left on device'
  const raises = `begin raise exception '${words}' using errcode = '53100'; end`
  await sql.raw(`create function full_disk() returns trigger language plpgsql as $$ ${raises} $$`).execute(db)
  await sql.raw('create trigger full_disk before insert or update on outbox_segment for each row execute function full_disk()').execute(db)
  await full(db, false)
}

/** From now on nothing more can be stored there, or it can again. */
export async function full(db: Db, is: boolean): Promise<void> {
  await sql.raw(`alter table outbox_segment ${is ? 'enable' : 'disable'} trigger full_disk`).execute(db)
}
