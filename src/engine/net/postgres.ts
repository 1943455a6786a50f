import type { Socket } from 'node:net'
import pg from 'pg'
import { type Failure, FailureError } from '~/contract/failure'
import { wordsOf } from '../log'
import { certificateFailure, trusted } from './peer-certificate'
import { reach } from './reach'
import { portFailure } from './steps'

/** How a PostgreSQL server is reached, and by whom. */
export interface PostgresAccess {
  host: string
  port: number
  database: string
  user: string
  password: string
  /** `ca`: the authority that signed it, PEM; null: those that this machine trusts. */
  tls: { ca: string | null } | null
  statementMs: number
  /** What the server's list of connections calls it. */
  name: string
  types: pg.CustomTypesConfig
  options: string
}

const CONNECT_MS = 10_000
/** The server ends a statement; this much later the waiting for it ends, when the server is gone, ms. */
const GONE_MS = 2000

/** Connects and logs in; `lost` hears once when the connection ends by itself afterwards. */
export async function openPostgres(a: PostgresAccess, lost: (e: unknown) => void): Promise<pg.Client> {
  const at = await reach.look(a.host, a.port)
  const client = new pg.Client({
    ...at,
    database: a.database,
    user: a.user,
    password: a.password,
    ...(a.tls && { ssl: { ...trusted(a.tls.ca), ...(/^[\d.]+$|:/.test(a.host) ? {} : { servername: a.host }) } }),
    application_name: a.name,
    types: a.types,
    connectionTimeoutMillis: CONNECT_MS,
    query_timeout: a.statementMs + GONE_MS,
    statement_timeout: a.statementMs,
    options: a.options,
    keepAlive: true,
  })
  client.on('error', lost)
  try {
    await client.connect()
  } catch (e) {
    hangUp(client)
    throw e
  }
  return client
}

/** Says goodbye; a server that does not answer to it is not waited for. */
export function hangUp(client: pg.Client): void {
  const { stream } = (client as unknown as { connection: { stream: Socket } }).connection
  void client.end().catch(() => undefined)
  const timer = setTimeout(() => stream.destroy(), GONE_MS)
  timer.unref()
  stream.once('close', () => clearTimeout(timer))
}

/** Why there is no connection, or no log-in (PostgreSQL's manual, appendix A); null: it is something else. */
export function connectFailure(e: unknown, a: Pick<PostgresAccess, 'host' | 'port' | 'database' | 'user'>, where: Failure['where']): Failure | null {
  if (e instanceof FailureError) return e.failure
  const { code = '' } = e as { code?: string }
  const words = wordsOf(e).slice(0, 300)
  const say = (code: string, message: string, hint: string): Failure => ({ code, message, hint, where })
  if (code === '28P01') return say('sql.log-in', `The server refuses user ${a.user} or the password`, 'Check both')
  if (code === '28000')
    return say(
      'sql.log-in',
      `The server does not let ${a.user} in`,
      'Its access rules (pg_hba.conf) must allow this user, database and address; is TLS wanted there?',
    )
  if (code === '3D000') return say('sql.database', `There is no database ${a.database}`, 'Check the name')
  if (code === '42501' && /connect/i.test(words)) return say('sql.database', `${a.user} may not connect to ${a.database}`, 'Grant connect there')
  if (code === '53300') return say('sql.full', 'The server has no connection left', 'Close others, or raise its limit')
  if (code === '57P03') return say('sql.starts', 'The server is starting, or stopping', 'Embrik tries again')
  if (['ECONNREFUSED', 'ETIMEDOUT', 'EHOSTUNREACH', 'ENETUNREACH', 'ECONNRESET'].includes(code)) return portFailure(e, a.host, a.port, where)
  if (code === 'ENOTFOUND' || code === 'EAI_AGAIN')
    return say('name.unknown', `The name ${a.host} cannot be resolved`, 'Check the spelling, or use the IP address')
  if (/server does not support SSL/i.test(words)) return say('tls.none', 'The server does not speak TLS', 'Switch TLS off, or ask for it there')
  const certificate = certificateFailure(e, a.host, where)
  if (certificate) return certificate
  if (/self.signed|unable to verify|unable to get|certificate/i.test(words))
    return say('tls.authority', `The server's certificate is not accepted: ${words}`, 'Choose the authority that signed it')
  return null
}
