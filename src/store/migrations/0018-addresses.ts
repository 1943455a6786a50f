import { type Kysely, sql } from 'kysely'

/** Addresses by the kind of their destination: until now all were those of MQTT. What a witness reads is a list. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await redraft(db)
  // What depends on a plan goes first, so that each is written once.
  await sql`alter table publication_version drop column filter`.execute(db)
  await replan(db)
  await sql`alter table publication_version add column reads jsonb generated always as (plan->'reads') stored`.execute(db)
}

interface Flat {
  topic: string
  topicRule: string
  headers: unknown[]
  contentType: string
  responseTopic: string
  expiryS: number | null
  qos: number
  retain: boolean
}

/** The key of a stream, which had no meaning over MQTT, falls away. */
type OldDraft = Flat & { key?: string; address?: object }

async function redraft(db: Kysely<unknown>): Promise<void> {
  const rows = await sql<{ id: string; draft: OldDraft }>`select id, draft from publication`.execute(db)
  for (const { id, draft } of rows.rows) {
    if (draft.address) continue
    const { topic, topicRule, headers, contentType, responseTopic, expiryS, qos, retain, key: _, ...rest } = draft
    const address = { kind: 'mqtt', topic, topicRule, headers, contentType, responseTopic, expiryS, qos, retain }
    await sql`update publication set draft = ${JSON.stringify({ ...rest, address })}::jsonb where id = ${id}`.execute(db)
  }
}

interface OldPlan {
  qos: number
  retain: boolean
  expiryS: number | null
  filter?: string
  address?: object
  messages?: { topic: unknown; key: unknown }[]
}

/** What is live goes on as it was frozen. Of templates a plan has only what came of them, so its address has none. */
async function replan(db: Kysely<unknown>): Promise<void> {
  const all = await sql<{ id: string; number: number }>`select publication_id as id, number from publication_version`.execute(db)
  for (const { id, number } of all.rows) {
    // One by one: with ten thousand equipment a plan has megabytes.
    const found = await sql<{ plan: OldPlan }>`select plan from publication_version where publication_id = ${id} and number = ${number}`.execute(db)
    const plan = found.rows[0]?.plan
    if (!plan || plan.address) continue
    const { qos, retain, expiryS, filter, messages = [], ...rest } = plan
    const address = { kind: 'mqtt', topic: '', topicRule: 'slug', headers: [], contentType: '', responseTopic: '', expiryS, qos, retain }
    const next = {
      ...rest,
      address,
      reads: filter ? [filter] : [],
      messages: messages.map(({ topic, ...m }) => ({ ...m, key: '', place: topic })),
    }
    await sql`update publication_version set plan = ${JSON.stringify(next)}::jsonb where publication_id = ${id} and number = ${number}`.execute(db)
  }
}
