import type pg from 'pg'
import type { TableSettings } from '~/contract/destinations/table'
import { type CheckStep, fail } from '~/contract/failure'
import { tableRead } from '~/core/address/kinds/table'
import { realClock } from '../../clock/real-clock'
import { hangUp } from '../../net/postgres'
import { reachSteps, runSteps } from '../../net/steps'
import type { Planned } from '../driver'
import { connectTable, senderUser, type TableTarget, type TableUser, witnessUser } from './access'
import { lostFailure, meaningOf } from './answers'
import { type Column, quoted, quotedTable, type Table, tableOf } from './catalog'

/** A check waits so long for a statement at most, ms. */
const ANSWER_MS = 8000
const OFF_BY_MS = 2000
/** So many tables are looked at in one check at most. */
const TABLES = 50

async function once<T>(user: TableUser, work: (client: pg.Client) => Promise<T>): Promise<T> {
  const client = await connectTable({ ...user, statementMs: ANSWER_MS, name: `${user.name} check` }, () => undefined)
  try {
    return await work(client)
  } finally {
    hangUp(client)
  }
}

const stop = (code: string, message: string, hint: string, where: 'destination' | 'witness' = 'destination') =>
  fail(502, `table.${code}`, message, hint, where)

async function logIn(user: TableUser, s: TableSettings): Promise<string> {
  const { version, now, standby } = await once(user, async (client) => {
    const { rows } = await client.query<{ version: string; now: string; standby: boolean }>(
      `select current_setting('server_version') as version, (extract(epoch from clock_timestamp()) * 1000)::bigint::text as now,
        pg_is_in_recovery() as standby`,
    )
    return rows[0]!
  })
  if (standby) throw stop('reads-only', 'It is a standby server, which takes no rows', 'Send to the primary server')
  const off = Number(now) - realClock.wall()
  const clock = Math.abs(off) <= OFF_BY_MS ? '' : `; its clock is ${Math.round(Math.abs(off) / 1000)} s ${off > 0 ? 'ahead' : 'behind'}`
  const open = s.tls ? ', over TLS' : '; without TLS: anybody in between can read and change rows'
  return `${user.user} in ${user.database}, PostgreSQL ${version}${open}${clock}`
}

const described = ({ name, type, own, needed, unique }: Column) =>
  `${name} ${type}${own ? ', fills itself' : needed ? ', not empty' : ''}${unique ? ', unique' : ''}`

async function may(client: pg.Client, place: string, right: string): Promise<boolean> {
  const { rows } = await client.query<{ may: boolean }>('select has_table_privilege(to_regclass($1), $2) as may', [quotedTable(place), right])
  return rows[0]?.may === true
}

async function mayMake(client: pg.Client, place: string): Promise<boolean> {
  const [schema, table] = place.split('.') as [string, string?]
  const { rows } = await client.query<{ may: boolean | null }>(
    `select has_schema_privilege(n.oid, 'create') as may from pg_namespace n where n.nspname = coalesce($1, current_schema())`,
    [table === undefined ? null : schema],
  )
  return rows[0]?.may === true
}

/** Whether a row could be written into a table, by what the database tells of it: nothing is. */
async function writable(client: pg.Client, user: TableUser, s: TableSettings, place: string, keys: readonly string[]): Promise<Table | null> {
  const table = await tableOf(client, place)
  if (!table) {
    if (!s.make) throw stop('no-table', `There is no table ${place} that ${user.user} can see`, 'Make it, or let Embrik make what is missing')
    if (!(await mayMake(client, place)))
      throw stop('may-not-make', `There is no table ${place}, and ${user.user} may not make it`, 'Grant create on its schema, or make the table')
    return null
  }
  for (const right of keys.length > 0 ? ['INSERT', 'UPDATE', 'SELECT'] : ['INSERT'])
    if (!(await may(client, place, right)))
      throw stop('not-allowed', `${user.user} may not ${right.toLowerCase()} on ${place}`, `Grant ${right.toLowerCase()} there`)
  const id = s.idColumn === '' ? undefined : table.columns.get(s.idColumn)
  if (s.idColumn !== '' && !id && !s.make)
    throw stop('no-id-column', `${place} has no column ${s.idColumn} for the id`, 'Add it (text, unique), or name another one')
  if (id && !/^(text|character varying)/.test(id.type))
    throw stop('id-type', `${place}: the column ${id.name} is ${id.type}, and ids are texts`, 'Make it a column of text')
  for (const key of keys)
    if (!table.columns.has(key))
      throw stop('no-column', `${place} has no column ${key}, by which rows are known again`, 'Add it, or correct the keys')
  if (keys.length > 0 && !(await uniqueBy(client, place, keys)))
    throw stop('no-key', `${place} has no unique index on ${keys.join(', ')}`, 'Make one on just these columns')
  return table
}

async function uniqueBy(client: pg.Client, place: string, keys: readonly string[]): Promise<boolean> {
  const { rows } = await client.query<{ columns: string[] }>(
    `select array(select a.attname::text from unnest(i.indkey[0:i.indnkeyatts - 1]) k join pg_attribute a on a.attrelid = i.indrelid and a.attnum = k) as columns
    from pg_index i where i.indrelid = to_regclass($1) and i.indisunique and i.indpred is null and i.indexprs is null`,
    [quotedTable(place)],
  )
  const wanted = [...keys].sort().join('\n')
  return rows.some((r) => asList(r.columns).sort().join('\n') === wanted)
}

/** The connection gives all as text: `{a,b}`. */
const asList = (text: string | string[]): string[] =>
  typeof text === 'string'
    ? text
        .slice(1, -1)
        .split(',')
        .map((t) => t.replace(/^"|"$/g, ''))
    : [...text]

async function tables(user: TableUser, s: TableSettings, reads: readonly string[]) {
  const all = [...new Set(reads)].slice(0, TABLES).map(tableRead)
  return once(user, async (client) => {
    const facts: Record<string, string> = {}
    const doubts: string[] = []
    let made = 0
    for (const { table: place, keys } of all) {
      const table = await writable(client, user, s, place, keys)
      if (!table) made++
      else {
        facts[place] = [...table.columns.values()].map(described).join('; ')
        if (s.idColumn !== '' && table.columns.get(s.idColumn)?.unique !== true)
          doubts.push(`${place}: ${s.idColumn} is not unique, so that a message whose answer is lost may be kept twice`)
      }
    }
    const there = all.length - made
    const words = [
      ...(there > 0 ? [`${there === 1 ? all.find((t) => facts[t.table])!.table : `${there} tables`} may be written`] : []),
      ...(made > 0 ? [`${made} will be made by the first message`] : []),
      ...doubts,
    ]
    return { detail: words.join('; '), facts }
  })
}

async function readsBack(user: TableUser, s: TableSettings, reads: readonly string[]): Promise<string> {
  const places = [...new Set(reads.map((r) => tableRead(r).table))].slice(0, TABLES)
  return once(user, async (client) => {
    const { rows } = await client.query<{ standby: boolean }>('select pg_is_in_recovery() as standby')
    if (rows[0]?.standby) throw stop('standby', 'It is a standby server, which may be behind', 'Read at the primary server', 'witness')
    let missing = 0
    for (const place of places) {
      const table = await tableOf(client, place)
      if (!table && s.make) missing++
      else if (!table)
        throw stop('no-table', `There is no table ${place} that ${user.user} can see`, 'Make it, or grant usage on its schema', 'witness')
      else await readable(client, user, s, place, table)
    }
    const all = places.length === 1 ? places[0] : `${places.length} tables`
    const later = missing > 0 ? `; ${missing === places.length ? 'they are' : `${missing} of them are`} made by the first message` : ''
    return `${user.user} reads ${places.length === 0 ? 'as soon as there are publications' : all}${later}`
  })
}

async function readable(client: pg.Client, user: TableUser, s: TableSettings, place: string, table: Table): Promise<void> {
  if (!(await may(client, place, 'SELECT')))
    throw stop('not-allowed', `${user.user} may not select from ${place}`, 'Grant select there, and usage on its schema', 'witness')
  const row = table.columns.get(s.rowColumn)
  if (!row || !/^(bigint|integer)$/.test(row.type) || !row.own)
    throw stop(
      'no-row-column',
      row ? `${place}: ${row.name} is no whole number that the table counts up` : `${place} has no column ${s.rowColumn} that counts rows`,
      `alter table ${quotedTable(place)} add ${quoted(s.rowColumn)} bigint generated by default as identity unique`,
      'witness',
    )
  if (s.idColumn !== '' && !table.columns.has(s.idColumn) && !s.make)
    throw stop('no-id-column', `${place} has no column ${s.idColumn}`, 'Add it, or name another one', 'witness')
}

/** Tries everything in order, the witness too, at the tables of its publications; writes and saves nothing. */
export async function* checkTable(target: TableTarget, { filters }: Planned): AsyncGenerator<CheckStep> {
  const { settings: s } = target
  const user = senderUser(target)
  const witness = () => witnessUser(target)
  const why = (u: TableUser, where: 'destination' | 'witness') => (e: unknown) => {
    const { meaning, failure } = meaningOf(e, u.database, u)
    return meaning === 'lost' ? lostFailure(e, u, where) : (connectingFirst(e, u, where) ?? { ...failure, where })
  }
  yield* runSteps(
    [
      ...reachSteps(s.host, s.port, 'destination'),
      { key: 'login', label: 'Log-in', run: () => logIn(user, s) },
      ...(filters.length > 0 ? [{ key: 'tables', label: 'Tables', run: () => tables(user, s, filters) }] : []),
      ...(s.witness ? [{ key: 'witness', label: 'Witness', run: () => readsBack(witness(), s, filters), explain: why(witness(), 'witness') }] : []),
    ],
    why(user, 'destination'),
  )
}

/** A log-in that is refused has an error code too. */
function connectingFirst(e: unknown, u: TableUser, where: 'destination' | 'witness') {
  const { code = '' } = e as { code?: string }
  return ['28P01', '28000', '3D000', '53300', '57P03'].includes(code) ? lostFailure(e, u, where) : null
}
