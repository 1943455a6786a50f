import { createServer, type Server, type Socket } from 'node:net'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { TableSettings } from '~/contract/destinations/table'
import type { CheckStep } from '~/contract/failure'
import type { TableTarget } from '~/engine/destinations/table/access'
import { checkTable } from '~/engine/destinations/table/check'
import { freePort, until } from './support'
import { recordsDatabase, tableOf } from './tables'

let records: Awaited<ReturnType<typeof recordsDatabase>>
const sockets = new Set<Socket>()
const servers: Server[] = []
beforeAll(async () => {
  records = await recordsDatabase()
})
afterAll(async () => {
  for (const s of sockets) s.destroy()
  for (const s of servers) s.close()
  await records.stop()
})

const login = (user: string, secret: string) => ({ kind: 'password' as const, certificate: null, user, secret })

function target(part: Partial<TableSettings> = {}, more: Partial<TableTarget> = {}): TableTarget {
  return {
    settings: {
      ...{
        host: '127.0.0.1',
        port: records.port,
        database: records.name,
        tls: false,
        authorityId: null,
        credentialId: 'x',
        witnessCredentialId: 'y',
      },
      ...{ idColumn: 'embrik_id', rowColumn: 'embrik_row', make: false, batchMost: 500, batchKb: 1000, lingerMs: 20, readEveryMs: 200, window: 2000 },
      ...{ retryMs: 200, ackS: 2, witness: true, lateS: 30, outboxMb: 50, outboxHours: 0, drainPerS: 0, journalHours: 24, journalMb: 20 },
      ...part,
    },
    authority: null,
    credential: login(records.writer, 'clay-writes-1'),
    witnessCredential: login(records.reader, 'clay-reads-1'),
    ...more,
  }
}

async function check(t: TableTarget, filters: readonly string[] = []) {
  const steps = new Map<string, CheckStep>()
  for await (const step of checkTable(t, { filters, sends: [], others: [] })) steps.set(step.key, step)
  const failed = [...steps.values()].find((s) => s.state === 'failed')
  return { steps, said: failed ? `${failed.key}: ${failed.failure!.code}` : 'passed', failure: failed?.failure }
}

/** Something that answers a connection in its own way. */
async function socket(answer: (socket: Socket) => void): Promise<number> {
  const server = createServer((s) => {
    sockets.add(s)
    s.on('error', () => undefined)
    answer(s)
  })
  servers.push(server)
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
  return (server.address() as { port: number }).port
}

it('passes step by step where everything is in order, tells the columns, and writes nothing', async () => {
  await records.run(tableOf('zones', 'at timestamptz not null, temperature double precision'))
  const { steps, said } = await check(target(), ['zones'])
  expect(said).toBe('passed')
  expect([...steps.values()].map((s) => s.detail)).toEqual([
    '127.0.0.1 is an address',
    expect.stringMatching(/^\d+ answers$/),
    expect.stringMatching(/^w_\w+ in r_\w+, PostgreSQL \d[\d.]*.*; without TLS: anybody in between can read and change rows$/),
    'zones may be written',
    expect.stringMatching(/^s_\w+ reads zones$/),
  ])
  expect(steps.get('tables')).toMatchObject({
    facts: {
      zones: 'embrik_row bigint, fills itself, unique; embrik_id text, unique; at timestamp with time zone, not empty; temperature double precision',
    },
  })
  expect(await records.run('select count(*) as n from zones')).toEqual([{ n: 0 }])
  expect((await check(target({ make: true }), ['not_yet', 'zones'])).steps.get('tables')!.detail).toBe(
    'zones may be written; 1 will be made by the first message',
  )
})

describe('tells apart what goes wrong at a check, each with its words and what to do', () => {
  it('on the way there', async () => {
    const silent = await socket(() => undefined)
    const rude = await socket((s) => s.end('HTTP/1.1 400 Bad Request\r\n\r\n'))
    const closed = await freePort()
    const cases: [string, Partial<TableSettings>, Partial<TableTarget>?][] = [
      ['name: name.unknown', { host: 'no-such-host.varnmoor.invalid' }],
      ['port: port.refused', { port: closed }],
      ['login: tls.none', { tls: true, authorityId: 'z' }],
      ['login: table.silent', { port: silent }],
      ['login: table.cut', { port: rude }],
      ['login: sql.log-in', {}, { credential: login(records.writer, 'wrong') }],
      ['login: sql.log-in', {}, { credential: login('nobody_here', 'x') }],
      ['login: sql.database', { database: 'no_such_works' }],
    ]
    const said = await Promise.all(cases.map(([, part, more]) => check(target(part, more), ['zones'])))
    expect(said.map((s) => s.said)).toEqual(cases.map(([code]) => code))
    for (const { failure } of said) {
      expect(failure!.message.length).toBeGreaterThan(15)
      expect(failure!.hint.length).toBeGreaterThan(8)
    }
  })

  it('at its tables', async () => {
    await records.run(tableOf('good', 'n int, unit text, unique (unit)'))
    await records.run('create table bare (n int)')
    await records.run('create table oddly (embrik_row bigint generated by default as identity, embrik_id uuid, n int)')
    await records.run('create table counted (embrik_row bigint, embrik_id text unique, n int)')
    await records.run(tableOf('hidden', 'n int'))
    await records.run(`revoke select on hidden from ${records.reader}`)
    await records.admin('create table theirs (embrik_row bigserial, embrik_id text, n int)')
    await records.run('create schema apart')
    await records.run(tableOf('apart.zones', 'n int'))
    const cases: [string, string, Partial<TableSettings>][] = [
      ['tables: table.no-table', 'nowhere', {}],
      ['tables: table.no-id-column', 'bare', {}],
      ['tables: table.id-type', 'oddly', {}],
      ['tables: table.not-allowed', 'theirs', {}],
      ['tables: table.no-column', 'good by colour', {}],
      ['tables: table.no-key', 'good by n', {}],
      ['tables: table.may-not-make', 'pg_catalog.mine', { make: true }],
      ['witness: table.no-row-column', 'bare', { idColumn: '' }],
      ['witness: table.no-row-column', 'counted', {}],
      ['witness: table.not-allowed', 'hidden', {}],
      ['witness: table.not-allowed', 'apart.zones', {}],
      ['passed', 'good by unit', {}],
      ['passed', 'bare', { idColumn: '', witness: false }],
    ]
    for (const [code, read, part] of cases) {
      const { said, failure } = await check(target(part), [read])
      expect(said, read).toBe(code)
      if (failure) {
        expect(failure.message.length).toBeGreaterThan(15)
        expect(failure.hint.length).toBeGreaterThan(5)
        expect(failure.where).toBe(code.startsWith('witness') ? 'witness' : 'destination')
      }
    }
    await records.run('alter table good drop constraint good_embrik_id_key')
    expect((await check(target(), ['good'])).steps.get('tables')!.detail).toContain('embrik_id is not unique, so that a message')
  })

  it('and leaves no connection behind', async () => {
    await until(
      async () =>
        (await records.admin(`select count(*) as n from pg_stat_activity where application_name like 'embrik%check'`))[0]!.n === (0 as never),
      'every check to be gone',
    )
  })
})
