import pg from 'pg'
import type { Failure } from '~/contract/failure'
import { type FailureError, fail } from '~/contract/failure'
import { parseExact } from '~/core/value/exact-json'
import { wholeFromText } from '~/core/value/whole'
import { wordsOf } from '../../log'
import { connectFailure, openPostgres } from '../../net/postgres'
import type { SourceTarget } from '../driver'

export type SqlTarget = SourceTarget<'sql'>

/** More rows than this are no set of tags. */
const ROWS_MAX = 10_000
/** More octets than this are not taken from the server for one answer. */
const ANSWER_MAX = 16 << 20

/** Counts what comes from the server while it is asked, and ends the connection when it is too much: it would all be held in memory. */
async function withinOctets<T>(client: pg.Client, ask: () => Promise<T>): Promise<T> {
  const { stream } = (client as unknown as { connection: { stream: NodeJS.EventEmitter & { destroy(e?: Error): void } } }).connection
  let octets = 0
  let tooLarge: FailureError | null = null
  const count = (chunk: Buffer) => {
    octets += chunk.length
    if (octets <= ANSWER_MAX || tooLarge) return
    tooLarge = fail(422, 'sql.large', `The query gives more than ${ANSWER_MAX >> 20} MB`, 'Take fewer columns or rows, or cut long texts', 'source')
    stream.destroy(tooLarge)
  }
  stream.on('data', count)
  try {
    return await ask()
  } catch (e) {
    throw tooLarge ?? e
  } finally {
    stream.removeListener('data', count)
  }
}

const { builtins } = pg.types
/** Whole numbers of 64 bits stay as they came, also within JSON; the rest as everywhere. */
const exact = {
  getTypeParser: ((oid: number, format?: 'text') => {
    if (oid === builtins.INT8) return (text: string) => text
    if (oid === builtins.JSON || oid === builtins.JSONB) return parseExact
    return pg.types.getTypeParser(oid, format)
  }) as pg.CustomTypesConfig['getTypeParser'],
}

const accessOf = ({ settings: s, password, authority }: SqlTarget) => ({
  ...s,
  password: password ?? '',
  tls: s.tls ? { ca: authority?.certificate ?? null } : null,
})

/** Opens a connection that can only read. */
export const connectSql = (target: SqlTarget, onLost: (e: unknown) => void): Promise<pg.Client> =>
  openPostgres(
    {
      ...accessOf(target),
      statementMs: target.settings.timeoutMs,
      name: 'embrik source',
      types: exact,
      options: '-c default_transaction_read_only=on',
    },
    onLost,
  )

/**
 * Runs the query through a cursor in a read-only transaction: that takes one select and nothing else, and no more rows than
 * are asked for ever leave the server. Gives the rows as a document: one row as it is, many by their key.
 */
export async function askSql(client: pg.Client, settings: SqlTarget['settings']): Promise<{ document: unknown; rows: number; columns: string[] }> {
  await client.query('begin transaction read only')
  try {
    // The extended protocol refuses several statements in one text.
    await client.query({
      text: `declare embrik no scroll cursor for ${settings.query.replace(/;\s*$/, '')}`,
      queryMode: 'extended',
    } as pg.QueryConfig)
    const result = await withinOctets(client, () => client.query(`fetch ${ROWS_MAX + 1} from embrik`))
    const columns = result.fields.map((f) => f.name)
    const rows = result.rows as Record<string, unknown>[]
    if (rows.length > ROWS_MAX)
      throw fail(422, 'sql.rows', `The query gives more than ${ROWS_MAX} rows`, 'Narrow it, or take only the newest rows', 'source')
    if (settings.keyColumn === '') {
      if (rows.length > 1)
        throw fail(
          422,
          'sql.key',
          `The query gives ${rows.length} rows and there is no key column`,
          `Name the column that tells them apart: ${columns.join(', ')}`,
          'source',
        )
      if (rows.length === 0) throw fail(422, 'sql.empty', 'The query gives no row', 'Check its conditions', 'source')
      return { document: clean(rows[0]!), rows: 1, columns }
    }
    if (!columns.includes(settings.keyColumn))
      throw fail(422, 'sql.key', `There is no column ${settings.keyColumn}`, `The query has ${columns.join(', ')}`, 'source')
    // Without a prototype: a row may be called constructor.
    const document: Record<string, unknown> = Object.create(null)
    for (const row of rows) {
      const key = String(row[settings.keyColumn])
      if (key in document)
        throw fail(422, 'sql.twice', `${settings.keyColumn} is ${key} in several rows`, 'The key must tell the rows apart', 'source')
      document[key] = clean(row)
    }
    return { document, rows: rows.length, columns }
  } finally {
    await client.query('rollback').catch(() => undefined)
  }
}

/** numeric and bigint come as text: a number where no digit is lost, a whole one of 64 bits as bigint. */
function clean(row: Record<string, unknown>): Record<string, unknown> {
  return Object.fromEntries(Object.entries(row).map(([k, v]) => [k, typeof v === 'string' ? numeric(v) : v]))
}

function numeric(text: string): string | number | bigint {
  if (/^-?\d{1,15}(\.\d{1,15})?$/.test(text) && String(Number(text)) === text) return Number(text)
  const whole = /^-?[1-9]\d{15,19}$/.test(text) ? wholeFromText(text) : null
  return whole ?? text
}

/** Puts what PostgreSQL and the socket throw into words (appendix A of its manual: error codes). */
export function sqlFailure(e: unknown, target: SqlTarget): Failure {
  const connecting = connectFailure(e, accessOf(target), 'source')
  if (connecting) return connecting
  const { code = '', position } = e as { code?: string; position?: string }
  const words = wordsOf(e).slice(0, 300)
  const known: Record<string, [string, string, string]> = {
    '42501': ['sql.permission', `${target.settings.user} may not read that: ${words}`, 'Grant select there'],
    '42P01': ['sql.query', words, 'Check the name of the table, and its schema'],
    '42703': ['sql.query', words, 'Check the name of the column'],
    '42601': [
      'sql.query',
      `${words}${position ? ` (at character ${Math.max(1, Number(position) - 37)})` : ''}`,
      'One select, without a second statement',
    ],
    '25006': ['sql.writes', 'The query wants to write', 'Only reading is possible here'],
    '57014': ['sql.slow', `The query took longer than ${target.settings.timeoutMs} ms`, 'Make it faster, or give it more time'],
  }
  const hit = known[code]
  if (hit) return { code: hit[0], message: hit[1], hint: hit[2], where: 'source' }
  if (/timeout/i.test(words))
    return { code: 'sql.silent', message: 'The server does not answer in time', hint: 'It may be busy: try again', where: 'source' }
  return { code: 'sql.failed', message: words, hint: 'Check the connection step by step', where: 'source' }
}
