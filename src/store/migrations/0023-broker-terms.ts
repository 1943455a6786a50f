import { type Kysely, sql } from 'kysely'

const reach = { transport: 'tcp', path: '/mqtt', headers: '', proxy: '', proxyCredentialId: null }
const broker = {
  ...reach,
  otherHosts: '',
  returnS: 60,
  redirects: false,
  sessionS: 86_400,
  connectsPerMin: 0,
  aliases: 0,
  packetKb: 65_536,
  willTopic: '',
  willPayload: '',
  willQos: '1',
  willRetain: false,
  willDelayS: 0,
}

/** Brokers are asked for what they were asked for before: no proxy, no further hosts, no will. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`update destination set settings = ${JSON.stringify(broker)}::jsonb || settings where kind = 'mqtt'`.execute(db)
  await sql`update source set settings = ${JSON.stringify(reach)}::jsonb || settings where kind = 'mqtt'`.execute(db)
}
