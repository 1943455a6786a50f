import pg from 'pg'
import { recordsLogins } from './plant'

/** Records of the works: a database of its own beside Embrik's, that one log-in owns and another may only read. */
export async function setUpRecords(adminUrl: string): Promise<void> {
  const { database, writer, reader } = recordsLogins
  const admin = new pg.Client(adminUrl)
  await admin.connect()
  try {
    const has = async (text: string) => (await admin.query(text)).rowCount === 1
    for (const { user, password } of [writer, reader])
      if (!(await has(`select 1 from pg_roles where rolname = '${user}'`))) await admin.query(`create role ${user} login password '${password}'`)
    if (await has(`select 1 from pg_database where datname = '${database}'`)) return
    await admin.query(`create database ${database} owner ${writer.user}`)
  } finally {
    await admin.end()
  }
  const own = new pg.Client(adminUrl.replace(/\/[^/]*$/, `/${database}`))
  await own.connect()
  try {
    // What the one makes, the other may read.
    await own.query(`alter default privileges for role ${writer.user} grant select on tables to ${reader.user}`)
  } finally {
    await own.end()
  }
}
