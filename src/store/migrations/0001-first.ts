import { type Kysely, sql } from 'kysely'

/** The thread: access, model, publications, outbox, ledger, events. */
export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of statements) await sql.raw(statement).execute(db)
}

const counters = ['produced', 'confirmed', 'late', 'missing', 'doubled', 'dropped', 'rejected', 'unknown']
const sets = ['acknowledged', 'confirmed', 'late', 'doubled', 'missing', 'dropped', 'rejected', 'unknown']

const statements = [
  `create table installation (one boolean primary key default true check (one), code text not null, setup_token_hash bytea)`,
  `create table person (
    id uuid primary key, name text not null, login text not null constraint person_login unique,
    role text not null, password_hash text not null, created_at timestamptz not null default now())`,
  `create table session (
    token_hash bytea primary key, person_id uuid not null references person on delete cascade,
    created_at timestamptz not null default now(), expires_at timestamptz not null, address text)`,
  `create index session_person on session (person_id)`,
  `create table api_key (
    id uuid primary key, name text not null constraint api_key_name unique, role text not null, prefix text not null,
    token_hash bytea not null unique, created_at timestamptz not null default now(), last_used timestamptz)`,
  `create table credential (
    id uuid primary key, name text not null constraint credential_name unique, kind text not null, certificate text,
    facts jsonb, user_name text, secret bytea, created_at timestamptz not null default now())`,
  `create table source (
    id uuid primary key, name text not null constraint source_name unique, kind text not null, settings jsonb not null,
    secret bytea, enabled boolean not null default true, version int not null default 1)`,
  `create table tag (
    id uuid primary key, handle int generated always as identity unique, name text not null constraint tag_name unique,
    source_id uuid not null constraint tag_source references source, address text not null, data_type text not null,
    unit text not null default '', description text not null default '', deadband jsonb, version int not null default 1)`,
  `create unique index tag_address on tag (source_id, address)`,
  `create table equipment_class (
    id uuid primary key, name text not null constraint class_name unique, members jsonb not null, version int not null default 1)`,
  `create table equipment (
    id uuid primary key, name text not null, parent_id uuid constraint equipment_parent references equipment,
    level text not null, class_id uuid constraint equipment_class_id references equipment_class,
    bindings jsonb not null default '{}', version int not null default 1,
    constraint equipment_name unique nulls not distinct (parent_id, name))`,
  `create index equipment_class_index on equipment (class_id)`,
  `create table destination (
    id uuid primary key, name text not null constraint destination_name unique, kind text not null, settings jsonb not null,
    enabled boolean not null default true, version int not null default 1)`,
  `create table publication (
    id uuid primary key, name text not null constraint publication_name unique, draft jsonb not null,
    destination_id uuid not null constraint publication_destination references destination,
    state text not null default 'draft', live_version int, live_draft_version int, version int not null default 1)`,
  `create table publication_version (
    publication_id uuid not null references publication on delete cascade, number int not null, plan jsonb not null,
    made_at timestamptz not null default now(), made_by text not null, primary key (publication_id, number))`,
  `create table delivery (
    number int generated always as identity primary key, publication_id uuid not null references publication on delete cascade,
    destination_id uuid not null references destination on delete cascade, unique (publication_id, destination_id))`,
  `create table outbox_segment (
    destination_id uuid not null references destination on delete cascade, segment bigint not null, count int not null,
    codec smallint not null, raw_bytes int not null, body bytea not null, created_at timestamptz not null default now(),
    primary key (destination_id, segment))
    with (autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 2000, autovacuum_vacuum_cost_delay = 0,
      toast.autovacuum_vacuum_scale_factor = 0, toast.autovacuum_vacuum_threshold = 2000, toast.autovacuum_vacuum_cost_delay = 0)`,
  `alter table outbox_segment alter column body set storage external`,
  `create table outbox_cursor (
    destination_id uuid primary key references destination on delete cascade, segment bigint not null, done int not null,
    counted_segment bigint not null) with (fillfactor = 20)`,
  `create table ledger_state (one boolean primary key default true check (one), flush bigint not null) with (fillfactor = 20)`,
  `insert into ledger_state (flush) values (0)`,
  `create table ledger_total (
    delivery int primary key references delivery on delete cascade, stored_through bigint not null,
    ${sets.map((s) => `${s} int8multirange not null default '{}'`).join(', ')}) with (fillfactor = 20)`,
  `create table ledger_slice (
    delivery int not null references delivery on delete cascade, start bigint not null, first_seq bigint not null,
    ${counters.map((c) => `${c} int not null default 0`).join(', ')}, primary key (delivery, start)) with (fillfactor = 70)`,
  `create index ledger_slice_seq on ledger_slice (delivery, first_seq)`,
  `create index ledger_slice_start on ledger_slice (start)`,
  `create table ledger_latency (
    delivery int not null references delivery on delete cascade, minute bigint not null, histogram bytea not null,
    primary key (delivery, minute))`,
  `create table event (
    id bigint generated always as identity primary key, at timestamptz not null default now(), severity text not null,
    place text not null, subject_id uuid, subject text not null, code text not null, message text not null, hint text not null default '')`,
  `create index event_at on event (at desc)`,
]
