import { randomBytes } from 'node:crypto'
import { type Kysely, sql } from 'kysely'

/** Classes with versions, nested parts and inheritance; equipment with facts, alias and ids; bindings that refer to members by id; record columns. */
export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of statements) await sql.raw(statement).execute(db)
  const ids = await giveIds(db)
  await rebind(db, ids)
  await refill(db)
}

const statements = [
  `alter table equipment_class add column description text not null default '', add column extends_id uuid constraint class_extends references equipment_class`,
  `create table class_version (
    class_id uuid not null references equipment_class on delete cascade, version int not null, at timestamptz not null default now(),
    made_by text not null, draft jsonb not null, primary key (class_id, version))`,
  `alter table equipment add column alias text not null default '', add column facts jsonb not null default '{}',
    add column external_ids jsonb not null default '{}', add column counts jsonb not null default '{}'`,
  // Names and places may be exchanged within one edit: looked at when it ends, not row by row.
  `alter table equipment drop constraint equipment_name,
    add constraint equipment_name unique nulls not distinct (parent_id, name) deferrable initially immediate`,
  `alter table equipment alter constraint equipment_parent deferrable initially immediate`,
  // Handles are of one sequence with those of tags: both stand in the same live table.
  `create table record_column (
    source_id uuid not null references source on delete cascade, row_key text not null, column_name text not null, data_type text not null,
    handle int not null unique default nextval(pg_get_serial_sequence('tag', 'handle')), primary key (source_id, row_key, column_name, data_type))`,
]

/** As ids of members were made then: what this writes stays as it is. */
const shortId = () => Array.from(randomBytes(8), (b, i) => (i === 0 ? 'abcdefghijklmnopqrstuvwxyz'[b % 26] : (b % 36).toString(36))).join('')

interface OldMember {
  key: string
  label: string
  dataType: string
  unit: string
}

/** Members get ids; answers with them by class and key. */
async function giveIds(db: Kysely<unknown>): Promise<Map<string, Map<string, string>>> {
  const out = new Map<string, Map<string, string>>()
  const classes = await sql<{
    id: string
    name: string
    members: OldMember[]
    version: number
  }>`select id, name, members, version from equipment_class`.execute(db)
  for (const c of classes.rows) {
    const members = c.members.map((m) => ({
      id: shortId(),
      ...m,
      description: '',
      required: true,
      many: false,
      classId: null,
      range: null,
      allowed: null,
      calculation: null,
    }))
    out.set(c.id, new Map(members.map((m) => [m.key, m.id])))
    await sql`update equipment_class set members = ${JSON.stringify(members)}::jsonb where id = ${c.id}`.execute(db)
    const draft = { name: c.name, description: '', extendsId: null, members }
    await sql`insert into class_version (class_id, version, made_by, draft) values (${c.id}, ${c.version}, '', ${JSON.stringify(draft)}::jsonb)`.execute(
      db,
    )
  }
  return out
}

/** Bindings by key become bindings by member id. */
async function rebind(db: Kysely<unknown>, ids: ReadonlyMap<string, ReadonlyMap<string, string>>): Promise<void> {
  const equipment = await sql<{ id: string; class_id: string; bindings: Record<string, unknown> }>`
    select id, class_id, bindings from equipment where class_id is not null and bindings <> '{}'`.execute(db)
  for (const e of equipment.rows) {
    const byKey = ids.get(e.class_id)
    const bindings = Object.fromEntries(Object.entries(e.bindings).flatMap(([k, b]) => (byKey?.has(k) ? [[byKey.get(k)!, b]] : [])))
    await sql`update equipment set bindings = ${JSON.stringify(bindings)}::jsonb where id = ${e.id}`.execute(db)
  }
}

interface OldPlanMember {
  key: string
  dataType: string
  unit: string
  handle: number | null
  constant: unknown
  deadband: { kind: string; size: number } | null
}

/** What is live goes on as it was frozen, in the new form. */
async function refill(db: Kysely<unknown>): Promise<void> {
  const plans = await sql<{ publication_id: string; number: number; plan: { equipment: { members: OldPlanMember[] }[] } }>`
    select publication_id, number, plan from publication_version`.execute(db)
  for (const { publication_id, number, plan } of plans.rows) {
    const equipment = plan.equipment.map((e) => ({
      ...e,
      members: e.members.map(({ handle, constant, deadband, ...m }) => ({
        ...m,
        fill: handle === null ? { kind: 'constant', value: constant } : { kind: 'tag', handle, width: deadband?.size ?? 0, factor: 1, offset: 0 },
      })),
    }))
    await sql`update publication_version set plan = ${JSON.stringify({ ...plan, equipment })}::jsonb
      where publication_id = ${publication_id} and number = ${number}`.execute(db)
  }
}
