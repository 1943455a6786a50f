import { type Kysely, sql } from 'kysely'

const sets = ['late', 'disordered', 'doubled', 'altered', 'missing', 'dropped', 'rejected', 'unknown', 'overtaken']
const verdicts = ['confirmed', 'late', 'disordered', 'doubled', 'altered', 'missing', 'dropped', 'rejected', 'unknown']
const size = (set: string) => `(select coalesce(sum(upper(r) - lower(r)), 0) from unnest(${set}) r)`

/**
 * One verdict a message: counts exclude each other, what is odd is kept by window of 4096 numbers, and the witness remembers
 * which deliveries of its session it has counted.
 */
export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of statements) await sql.raw(statement).execute(db)
}

const statements = [
  `alter table ledger_total rename to ledger_total_old`,
  `create table ledger_total (
    delivery int primary key references delivery on delete cascade, stored_through bigint not null, made_at bigint not null default 0,
    acknowledged bigint not null default 0, foreign_count bigint not null default 0, answered int8multirange not null, known int8multirange not null,
    ${verdicts.map((v) => `${v} bigint not null default 0`).join(', ')}) with (fillfactor = 20)`,
  `create table ledger_odd (
    delivery int not null references delivery on delete cascade, part bigint not null,
    ${sets.map((s) => `${s} int8multirange not null default '{}'`).join(', ')}, primary key (delivery, part)) with (fillfactor = 50)`,
  `insert into ledger_total (delivery, stored_through, made_at, acknowledged, answered, known, confirmed, late, doubled, missing, dropped, rejected, unknown)
    select o.delivery, stored_through, coalesce((select max(s.start) from ledger_slice s where s.delivery = o.delivery), 0), ${size('acknowledged')},
      acknowledged + rejected + dropped, confirmed + missing + dropped + rejected + unknown,
      ${size('confirmed - late - doubled')}, ${size('late - doubled')}, ${size('doubled')}, ${size('missing')}, ${size('dropped')}, ${size('rejected')},
      ${size('unknown')} from ledger_total_old o`,
  `insert into ledger_odd (delivery, part, late, doubled, missing, dropped, rejected, unknown)
    select delivery, g, late * m, doubled * m, missing * m, dropped * m, rejected * m, unknown * m from ledger_total_old,
      lateral (select distinct g from unnest(late + doubled + missing + dropped + rejected + unknown) r, generate_series(lower(r) / 4096, (upper(r) - 1) / 4096) g) w,
      lateral (select int8multirange(int8range(g * 4096, (g + 1) * 4096)) m) b`,
  `drop table ledger_total_old`,
  `alter table ledger_slice alter column first_seq drop not null, add column disordered int not null default 0, add column altered int not null default 0,
    add column foreign_count int not null default 0`,
  `update ledger_slice set late = greatest(0, least(late, confirmed - doubled)), confirmed = greatest(0, confirmed - doubled - greatest(0, least(late, confirmed - doubled)))`,
  `create table witness_session (
    destination_id uuid primary key references destination on delete cascade, filters jsonb not null, counted bytea not null) with (fillfactor = 20)`,
  `update destination set settings = '{"protocol":"5","ackS":20,"lateS":30}'::jsonb || settings`,
]
