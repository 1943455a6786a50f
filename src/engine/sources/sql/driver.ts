import type pg from 'pg'
import { FailureError } from '~/contract/failure'
import { exactJson } from '~/core/value/exact-json'
import { reachSteps, runSteps } from '../../net/steps'
import { browseDocument } from '../document'
import type { SourceDriver } from '../driver'
import { DocumentPoller } from '../poll'
import { askSql, connectSql, type SqlTarget, sqlFailure } from './client'

const ignore = () => undefined

async function once<T>(target: SqlTarget, work: (client: pg.Client) => Promise<T>): Promise<T> {
  const client = await connectSql(target, ignore)
  try {
    return await work(client)
  } finally {
    await client.end().catch(ignore)
  }
}

/** A read-only query on a PostgreSQL database, at a rate. */
export const sqlDriver: SourceDriver<'sql'> = {
  async *check(target) {
    const { settings } = target
    yield* runSteps(
      [
        ...reachSteps(settings.host, settings.port, 'source'),
        {
          key: 'login',
          label: 'Log-in',
          run: async () => {
            const version = await once(
              target,
              async (c) => (await c.query<{ v: string }>(`select current_setting('server_version') as v`)).rows[0]?.v,
            )
            return `${settings.user} in ${settings.database}, PostgreSQL ${version}${settings.tls ? ', over TLS' : ''}`
          },
        },
        {
          key: 'query',
          label: 'Query',
          run: async () => {
            const { document, rows, columns } = await once(target, (c) => askSql(c, settings))
            return {
              detail: `${rows} ${rows === 1 ? 'row' : 'rows'} of ${columns.join(', ')}`,
              facts: { result: exactJson(document, 1).slice(0, 2000) },
            }
          },
        },
      ],
      (e) => sqlFailure(e, target),
    )
  },

  async browse(target, _ctx, address, deep) {
    try {
      return browseDocument((await once(target, (c) => askSql(c, target.settings))).document, address, deep)
    } catch (e) {
      throw new FailureError(sqlFailure(e, target), 502)
    }
  },

  async open(target, _ctx, sink) {
    const { settings } = target
    let over = false
    let poller: DocumentPoller | null = null
    const lost = (e: unknown) => {
      if (over) return
      over = true
      void poller?.stop()
      sink.down({ ...sqlFailure(e, target), hint: 'Embrik tries again by itself' })
    }
    let client: pg.Client
    try {
      client = await connectSql(target, lost)
    } catch (e) {
      throw new FailureError(sqlFailure(e, target), 502)
    }
    client.on('end', () => lost(new Error('The server closed the connection')))
    const own = new DocumentPoller(
      settings.rateMs,
      async () => (await askSql(client, settings)).document,
      (e) => sqlFailure(e, target),
      sink,
    )
    poller = own
    return {
      summary: `${settings.user} in ${settings.database}${settings.tls ? ', TLS' : ', without TLS'}`,
      setTags: async (tags) => own.setTags(tags),
      close: async () => {
        over = true
        const ended = own.stop()
        await client.end().catch(ignore)
        await ended
      },
    }
  },
}
