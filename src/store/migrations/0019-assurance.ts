import { type Kysely, sql } from 'kysely'

const statements = [
  // What was told in words of one protocol is told in words that every destination has.
  `alter table aside add column assurance text`,
  `update aside set assurance = case qos when 0 then 'sent' when 2 then 'once' else 'acknowledged' end`,
  `alter table aside alter column assurance set not null, add constraint aside_assurance check (assurance in ('sent', 'acknowledged', 'once'))`,
  `alter table aside drop column qos, drop column retain`,
  // What is to be taken back from a destination, until the engine has stored the message that does.
  `create table taken_back (delivery int not null references delivery on delete cascade, place text not null, key text not null default '',
    primary key (delivery, place, key))`,
  `insert into taken_back (delivery, place) select delivery, topic from retained_topic`,
  `drop table retained_topic`,
  `update destination set settings = settings || '{"outboxHours": 0}'::jsonb where not settings ? 'outboxHours'`,
]

export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of statements) await sql.raw(statement).execute(db)
}
