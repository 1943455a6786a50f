import { createServer, type Server } from 'node:http'
import pg from 'pg'
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest'
import type { SettingsOf } from '~/contract/source'
import { httpDriver } from '~/engine/sources/http/driver'
import { simulatedDriver } from '~/engine/sources/simulated/driver'
import { sqlDriver } from '~/engine/sources/sql/driver'
import { CompressorServer } from '~/standins/compressor/server'
import { setUpOrders } from '~/standins/orders'
import { compressorLogin, ordersLogin } from '~/standins/plant'
import { checked, noContext, opened, states, targetOf } from './source-support'
import { freePort, until } from './support'

const server = process.env.EMBRIK_TEST_DATABASE_URL!
const at = new URL(server)

const sql = (more: Partial<SettingsOf<'sql'>> = {}, password: string | null = ordersLogin.password) =>
  targetOf(
    'sql',
    {
      host: at.hostname,
      port: Number(at.port),
      database: ordersLogin.database,
      tls: false,
      authorityId: null,
      user: ordersLogin.user,
      query: 'select line, order_no, quantity, started from works.current_order',
      keyColumn: 'line',
      timeoutMs: 500,
      rateMs: 100,
      retryMs: 500,
      ...more,
    },
    { password },
  )

describe('a query', () => {
  beforeAll(async () => {
    await setUpOrders(server)
    // What is there already is left as it is.
    await setUpOrders(server)
  })

  it('passes its check and shows what came', async () => {
    const steps = await checked(sqlDriver, sql())
    expect(states(steps)).toEqual({ name: 'passed', port: 'passed', login: 'passed', query: 'passed' })
    expect(JSON.parse(steps.query!.facts!.result!)).toMatchObject({ 'kiln 1': { order_no: expect.stringMatching(/^WO-/) }, packing: {} })
  })

  it.each([
    ['a wrong port', () => sql({ port: 1 }), 'port', 'port.refused'],
    ['a wrong password', () => sql({}, 'x'), 'login', 'sql.log-in'],
    ['a database that is not there', () => sql({ database: 'nowhere' }), 'login', 'sql.database'],
    ['TLS where there is none', () => sql({ tls: true }), 'login', 'tls.none'],
    ['a table that is not there', () => sql({ query: 'select * from works.nothing' }), 'query', 'sql.query'],
    ['a slip of the pen', () => sql({ query: 'selct 1' }), 'query', 'sql.query'],
    ['a query that is too slow', () => sql({ query: 'select pg_sleep(5)', keyColumn: '' }), 'query', 'sql.slow'],
    ['a query that writes', () => sql({ query: "insert into works.recipe values ('x','y',1,1)" }), 'query', 'sql.query'],
    [
      'one that writes inside a select',
      () => sql({ query: 'with x as (delete from works.recipe returning *) select * from x', keyColumn: '' }),
      'query',
      null,
    ],
    ['a second statement', () => sql({ query: 'select 1 as line; delete from works.recipe' }), 'query', 'sql.query'],
    ['an end of the transaction', () => sql({ query: 'select 1 as line; commit; delete from works.recipe' }), 'query', 'sql.query'],
    [
      'a way out of read-only',
      () => sql({ query: 'select 1 as line; rollback; set default_transaction_read_only = off; delete from works.recipe' }),
      'query',
      'sql.query',
    ],
    ['a setting instead of a query', () => sql({ query: 'set default_transaction_read_only = off' }), 'query', 'sql.query'],
    ['an answer of 30 MB', () => sql({ query: "select repeat('x', 30000000) as a", keyColumn: '', timeoutMs: 20_000 }), 'query', 'sql.large'],
    ['many rows without a key', () => sql({ keyColumn: '' }), 'query', 'sql.key'],
    ['a key that is no column', () => sql({ keyColumn: 'nothing' }), 'query', 'sql.key'],
    ['a key that is twice', () => sql({ query: 'select 1 as line from generate_series(1, 3)' }), 'query', 'sql.twice'],
    ['too many rows', () => sql({ query: 'select generate_series(1, 200000) as line' }), 'query', 'sql.rows'],
    ['no row', () => sql({ query: 'select 1 as line where false', keyColumn: '' }), 'query', 'sql.empty'],
  ] as const)('finds %s', async (_, make, step, code) => {
    const failure = (await checked(sqlDriver, make()))[step]!.failure!
    if (code) expect(failure.code).toBe(code)
    expect(failure.hint).not.toBe('')
    const client = new pg.Client(server.replace(/\/[^/]*$/, `/${ordersLogin.database}`))
    await client.connect()
    expect((await client.query('select count(*)::int as n from works.recipe')).rows[0].n).toBe(3)
    await client.end()
  })

  it('rows may be called as parts of every object are', async () => {
    const query = "select 'constructor' as line, 1 as v union all select '__proto__', 2 union all select 'toString', 3"
    const steps = await checked(sqlDriver, sql({ query, keyColumn: 'line' }))
    expect(steps.query).toMatchObject({ state: 'passed', detail: expect.stringContaining('3 rows') })
  })

  it('delivers tags by key and column, can be browsed, and is told lost when the server ends it', async () => {
    const o = await opened(sqlDriver, sql())
    await o.connection.setTags([
      { handle: 1, address: '/kiln 1/order_no', dataType: 'text' },
      { handle: 2, address: '/packing/quantity', dataType: 'number' },
      { handle: 3, address: '/kiln 1/started', dataType: 'time' },
      { handle: 4, address: '/kiln 2/order_no', dataType: 'text' },
    ])
    await until(() => o.values.size === 4, 'all values')
    expect(o.values.get(1)).toMatchObject({ value: expect.stringMatching(/^WO-/), status: 0 })
    expect(o.values.get(2)!.value).toBeGreaterThan(3999)
    expect(o.values.get(3)!.value).toMatch(/T.*Z$/)
    expect(o.values.get(4)!.status).toBe(0x80340000)
    const admin = new pg.Client(server)
    await admin.connect()
    await admin.query(`select pg_terminate_backend(pid) from pg_stat_activity where usename = '${ordersLogin.user}'`)
    await admin.end()
    await until(() => o.downs.length === 1, 'the loss')
    await o.connection.close()
    const top = await sqlDriver.browse(sql(), noContext, '', false)
    expect(top).toContainEqual({ address: '/kiln 1', name: 'kiln 1', kind: 'folder', hasChildren: true })
    expect((await sqlDriver.browse(sql(), noContext, '', true)).map((n) => n.path)).toContain('packing/quantity')
  })
})

describe('a document behind a URL', () => {
  let compressor: CompressorServer
  let odd: Server
  let port: number
  let oddPort: number
  beforeAll(async () => {
    port = await freePort()
    oddPort = await freePort()
    compressor = await CompressorServer.start(port, compressorLogin)
    odd = createServer((req, res) => {
      if (req.url === '/trickle') {
        res.writeHead(200)
        const timer = setInterval(() => res.write(' '), 50)
        res.on('close', () => clearInterval(timer))
      } else if (req.url === '/large') {
        res.writeHead(200).write('"')
        const more = () => res.writable && res.write('x'.repeat(1 << 20), () => setImmediate(more))
        more()
      } else if (req.url === '/deep') res.end(`${'['.repeat(10_000)}${']'.repeat(10_000)}`)
      else if (req.url === '/moved') res.writeHead(302, { location: '/status' }).end()
      else if (req.url === '/hangs-up') res.destroy()
      else res.end('<html>')
    })
    await new Promise<void>((done) => odd.listen(oddPort, '127.0.0.1', done))
  })
  afterEach(() => {
    compressor.faults = { slowMs: 0, failing: false }
  })
  afterAll(async () => {
    odd.closeAllConnections()
    odd.close()
    await compressor.stop()
  })
  const http = (path = '/status', more: Partial<SettingsOf<'http'>> = {}, password: string | null = compressorLogin.password, on = port) =>
    targetOf(
      'http',
      {
        url: `http://127.0.0.1:${on}${path}`,
        authorityId: null,
        login: 'basic',
        user: compressorLogin.user,
        headers: 'x-asked-by: test',
        timeoutMs: 400,
        rateMs: 100,
        retryMs: 500,
        ...more,
      },
      { password },
    )

  it('passes its check and shows the document', async () => {
    const steps = await checked(httpDriver, http())
    expect(states(steps)).toEqual({ name: 'passed', port: 'passed', answer: 'passed', values: 'passed' })
    expect(JSON.parse(steps.values!.facts!.result!)).toMatchObject({ unit: { name: 'Compressor 1' } })
  })

  it.each([
    ['a wrong port', () => http('/status', {}, null, 1), 'port', 'port.refused'],
    ['a wrong password', () => http('/status', {}, 'x'), 'answer', 'http.log-in'],
    ['a wrong path', () => http('/nothing'), 'answer', 'http.unknown'],
    ['a page instead of JSON', () => http('/', { login: 'none' }), 'answer', 'http.json'],
    ['TLS where there is none', () => http('/status', { url: `https://127.0.0.1:${port}/status` }), 'answer', 'tls.none'],
    ['an answer that trickles without an end', () => http('/trickle', {}, null, oddPort), 'answer', 'http.silent'],
    ['an answer that is far too large', () => http('/large', { timeoutMs: 20_000 }, null, oddPort), 'answer', 'http.large'],
    ['JSON that nests too deep', () => http('/deep', {}, null, oddPort), 'answer', 'http.json'],
    ['a document that moved', () => http('/moved', {}, null, oddPort), 'answer', 'http.elsewhere'],
    ['a server that hangs up', () => http('/hangs-up', {}, null, oddPort), 'answer', 'port.reset'],
  ] as const)('finds %s', async (_, make, step, code) => {
    const failure = (await checked(httpDriver, make()))[step]!.failure!
    expect(failure.code).toBe(code)
    expect(failure.hint).not.toBe('')
  })

  it('delivers leaves as tags; while it fails they keep their value and say why, and then the connection is begun anew', async () => {
    const o = await opened(httpDriver, http())
    await o.connection.setTags([
      { handle: 1, address: '/air/pressure', dataType: 'number' },
      { handle: 2, address: '/stages/1/temperature', dataType: 'number' },
      { handle: 3, address: '/state', dataType: 'number' },
      { handle: 4, address: '/stages/7/temperature', dataType: 'number' },
    ])
    await until(() => o.values.size === 4, 'all values')
    expect(o.values.get(1)!.value).toBeGreaterThan(6)
    expect(o.values.get(2)!.value).toBeGreaterThan(120)
    expect(o.values.get(3)!.status).toBe(0x80740000)
    expect(o.values.get(4)!.status).toBe(0x80340000)
    expect(o.trips.length).toBeGreaterThan(0)
    compressor.faults = { slowMs: 0, failing: true }
    await until(() => o.values.get(1)!.status === 0x80310000, 'no communication')
    expect(o.values.get(1)!.value).toBeGreaterThan(6)
    expect(o.notes.get(1)!.text).toContain('503')
    await until(() => o.downs.length === 1, 'the loss')
    await o.connection.close()
  })
})

describe('simulated signals', () => {
  const simulated = (seed: number, recording = '') => targetOf('simulated', { seed, recording, rateMs: 50, retryMs: 500 })
  const tags = ['sine low=10 high=20 period=2', 'counter rate=7 high=9', 'cycle values=a|b period=0.3', 'noise low=0 high=1', 'replay column=x'].map(
    (address, i) => ({
      handle: i + 1,
      address,
      dataType: i === 2 ? ('text' as const) : ('number' as const),
    }),
  )

  it('are the same for the same seed, within their limits, and roll over', async () => {
    const seen = new Map<number, Set<unknown>>()
    const o = await opened(simulatedDriver, simulated(3, 'seconds,x\n0,5\n0.4,6\n0.8,7\n'))
    await o.connection.setTags(tags)
    await until(() => {
      for (const [h, v] of o.values) seen.set(h, (seen.get(h) ?? new Set()).add(v.value))
      return seen.size === 5 && seen.get(2)!.size >= 8 && seen.get(5)!.size === 3
    }, 'all signals to move')
    for (const v of seen.get(1)!) expect(v as number).toBeGreaterThanOrEqual(10)
    for (const v of seen.get(2)!) expect(v as number).toBeLessThanOrEqual(9)
    expect([...seen.get(3)!].sort()).toEqual(['a', 'b'])
    await o.connection.close()
  })

  it('a damaged recording is refused with its row', async () => {
    const failure = (await checked(simulatedDriver, simulated(1, 'seconds,x\n0,1\nsoon,2'))).recording!.failure!
    expect(failure.message).toContain('Row 3')
    await expect(opened(simulatedDriver, simulated(1, 'only a heading'))).rejects.toThrow('at least one row')
  })
})
