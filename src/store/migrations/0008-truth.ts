import { type Kysely, sql } from 'kysely'

/**
 * One engine at a time by epochs; the ledger's sets written by window; segments that tell what is in them; how far a witness
 * has come in its own words.
 */
export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of before) await sql.raw(statement).execute(db)
  await windows(db)
  await positions(db)
  for (const statement of after) await sql.raw(statement).execute(db)
}

const before = [
  `create table engine_lease (one boolean primary key default true check (one), epoch bigint not null, holder jsonb)`,
  `insert into engine_lease (epoch) values (0)`,
  // Beside it, so that confirming it every second never waits for who writes under it.
  `create table engine_pulse (one boolean primary key default true check (one), at timestamptz not null) with (fillfactor = 20)`,
  `insert into engine_pulse (at) values ('epoch')`,
  `alter table outbox_segment add column ordinal bigint not null default 0, add column ranges text not null default ''`,
  `alter table outbox_cursor add column ordinal bigint not null default 0`,
  `alter table ledger_odd add column known int8multirange not null default '{}', add column answered int8multirange not null default '{}'`,
  `alter table ledger_total add column known_through bigint not null default 0, add column answered_through bigint not null default 0,
    add column turns int not null default 0`,
  `create table witness_position (destination_id uuid primary key references destination on delete cascade, position bytea not null)
    with (fillfactor = 20)`,
  `alter table event add column token uuid unique`,
  // What is asked of all plans at once must not read them.
  `alter table publication_version add column filter text generated always as (plan->>'filter') stored,
    add column destination_id text generated always as (plan->>'destinationId') stored`,
  // Messages that were refused, or on which the link was lost again and again, with all that is needed to see why.
  `create table aside (
    id bigint generated always as identity primary key, destination_id uuid not null references destination on delete cascade,
    delivery int not null, seq bigint not null, at timestamptz not null default now(), topic text not null, qos smallint not null, retain boolean not null,
    properties text not null, payload bytea not null, code text not null, message text not null, hint text not null)`,
  `create index aside_destination on aside (destination_id, id)`,
  `alter table ledger_slice ${['produced', 'foreign_count', 'confirmed', 'late', 'disordered', 'doubled', 'altered', 'missing', 'dropped', 'rejected', 'unknown'].map((c) => `alter column ${c} type bigint`).join(', ')}`,
]

const after = [`alter table ledger_total drop column known, drop column answered`, `drop table witness_session`]

const WINDOW = 4096
const runs = (text: string) => [...text.matchAll(/\[(\d+),(\d+)\)/g)].map((m) => [Number(m[1]), Number(m[2]) - 1] as const)

/** The gapless run from 1 on becomes one number; what lies beyond goes to the windows. */
async function windows(db: Kysely<unknown>): Promise<void> {
  const totals = await sql<{ delivery: number; known: string; answered: string }>`
    select delivery, known::text as known, answered::text as answered from ledger_total`.execute(db)
  for (const t of totals.rows) {
    const through: Record<string, number> = {}
    for (const set of ['known', 'answered'] as const) {
      const all = runs(t[set])
      through[set] = all[0]?.[0] === 1 ? all[0][1] : 0
      const parts = new Map<number, string[]>()
      for (const [first, last] of all) {
        if (last <= through[set]!) continue
        for (let w = Math.floor(first / WINDOW); w <= Math.floor(last / WINDOW); w++) {
          const text = `[${Math.max(first, w * WINDOW)},${Math.min(last, w * WINDOW + WINDOW - 1) + 1})`
          parts.set(w, [...(parts.get(w) ?? []), text])
        }
      }
      for (const [part, texts] of parts)
        await sql`insert into ledger_odd (delivery, part, ${sql.ref(set)}) values (${t.delivery}, ${part}, ${`{${texts.join(',')}}`}::int8multirange)
          on conflict (delivery, part) do update set ${sql.ref(set)} = excluded.${sql.ref(set)}`.execute(db)
    }
    await sql`update ledger_total set known_through = ${through.known}, answered_through = ${through.answered} where delivery = ${t.delivery}`.execute(
      db,
    )
  }
}

/** What a witness had counted goes on as it was: a head with its filters, then the deliveries. */
async function positions(db: Kysely<unknown>): Promise<void> {
  const sessions = await sql<{ destination_id: string; filters: string[]; counted: Buffer }>`select * from witness_session`.execute(db)
  for (const s of sessions.rows) {
    const head = Buffer.from(JSON.stringify({ filters: s.filters.map((f) => [f, 0]) }))
    const length = Buffer.alloc(4)
    length.writeUInt32LE(head.length)
    await sql`insert into witness_position (destination_id, position) values (${s.destination_id}, ${Buffer.concat([length, head, s.counted])})`.execute(
      db,
    )
  }
}
