import { type Kysely, sql } from 'kysely'

/** Certificates that authorities of ours signed, and which of them were taken back. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`
    create table issued_certificate (
      authority_id uuid not null references credential on delete cascade,
      serial text not null,
      subject text not null,
      issued_at timestamptz not null default now(),
      not_after timestamptz not null,
      taken_back_at timestamptz,
      reason text,
      primary key (authority_id, serial)
    )`.execute(db)
}
