import { type Kysely, sql } from 'kysely'

/**
 * How much went out today is known over a new start too, where the far end counts what it takes a day. A hub may be told of the
 * sender itself, and may be asked what it knows of it.
 */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`create table sent_day (
    destination_id uuid primary key references destination on delete cascade, day int not null, count bigint not null) with (fillfactor = 20)`.execute(
    db,
  )
  const registry = { registryUrl: '', registryAuthorityId: null, registryCredentialId: null }
  const ways = ['saysConnected', 'saysLast', 'saysTaken', 'saysRejected', 'saysToday', 'saysPerDay', 'logRows', 'logAt', 'logWhy', 'logPlace']
  const profile = { selfTopic: '', selfEveryS: null, registryPath: '', logPath: '', ...Object.fromEntries(ways.map((way) => [way, ''])) }
  await sql`update destination set settings = ${JSON.stringify(registry)}::jsonb
      || jsonb_set(settings, '{profile}', ${JSON.stringify(profile)}::jsonb || (settings->'profile'))
    where kind = 'hub' and settings ? 'profile'`.execute(db)
}
