import { type Kysely, sql } from 'kysely'

/** Shapes with settings, addresses with more than a topic, plans of messages rather than of equipment with a topic each. */
export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of statements) await sql.raw(statement).execute(db)
  await redraft(db)
  await replan(db)
}

const statements = [
  // Births and deaths of a Sparkplug edge node are tied by a number that goes on over restarts.
  `alter table destination add column birth_death smallint not null default 255`,
  // Retained messages that are to be taken back from a broker, until the engine has sent that.
  `create table retained_topic (delivery int not null references delivery on delete cascade, topic text not null, primary key (delivery, topic))`,
]

/** Settings of that shape as they were then: what this writes stays as it is. */
const flat = {
  kind: 'flat-json',
  members: 'all',
  fullEvery: 60,
  bad: 'marked',
  nulls: 'null',
  decimals: null,
  nonFinite: 'null',
  wholes: 'number',
  time: 'iso',
  zone: 'UTC',
  compression: 'none',
}
const beside = { topicRule: 'slug', key: '', headers: [], steersOnly: false, contentType: '', responseTopic: '', expiryS: null }

async function redraft(db: Kysely<unknown>): Promise<void> {
  const rows = await sql<{ id: string; draft: Record<string, unknown> }>`select id, draft from publication`.execute(db)
  for (const { id, draft } of rows.rows) {
    if (typeof draft.shape !== 'string') continue
    await sql`update publication set draft = ${JSON.stringify({ ...draft, ...beside, shape: flat })}::jsonb where id = ${id}`.execute(db)
  }
}

interface OldEquipment {
  id: string
  name: string
  topic: string
  members: object[]
}

/** What is live goes on as it was frozen, in the new form. */
async function replan(db: Kysely<unknown>): Promise<void> {
  const plans = await sql<{ publication_id: string; number: number; plan: { shape: unknown; equipment: OldEquipment[] } }>`
    select publication_id, number, plan from publication_version`.execute(db)
  const member = { label: '', description: '', required: false, range: null, allowed: null, tag: '' }
  for (const { publication_id, number, plan } of plans.rows) {
    if (typeof plan.shape !== 'string') continue
    const equipment = plan.equipment.map(({ topic: _, ...e }) => ({
      ...e,
      path: [e.name],
      className: '',
      classVersion: 0,
      facts: {},
      members: e.members.map((m) => ({ ...member, ...m })),
    }))
    const messages = plan.equipment.map((e, i) => ({
      equipment: [i],
      members: null,
      steering: [],
      topic: e.topic,
      key: '',
      headers: [],
      responseTopic: '',
    }))
    const next = { ...plan, shape: flat, contentType: 'application/json', expiryS: null, equipment, messages }
    await sql`update publication_version set plan = ${JSON.stringify(next)}::jsonb
      where publication_id = ${publication_id} and number = ${number}`.execute(db)
  }
}
