import { execFileSync } from 'node:child_process'
import { readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import { postgresBin } from '../../scripts/lib/packages.mjs'
import { routes } from '../../src/contract/routes'
import { eventsReader, type KeptHub } from '../../src/standins/hub/kept'
import { brokerUsers, compressorLogin, kilnLogin, objectKeys, ordersLogin, receiverUsers, recordsLogins, streamUsers } from '../../src/standins/plant'
import { answersFile, api, demo, expect, home, people, test, web } from './support'

/** The middle of a PEM key, without line ends: what would show it in whatever wrapping. */
function keyMaterial(pem: string): string[] {
  const lines = pem.split('\n').filter((l) => l && !l.startsWith('-----'))
  return lines.slice(0, 2)
}

/** Every secret that this run used, by what it is. */
function secretsOfThisRun(): [string, string][] {
  const url = new URL(process.env.EMBRIK_E2E_DATABASE_URL ?? '')
  const found: [string, string][] = [
    ['engine secret', readFileSync(join(home, 'engine.secret'), 'utf8').trim()],
    ['master key', readFileSync(join(home, 'master.key'), 'utf8').trim()],
    ['database password', decodeURIComponent(url.password)],
    ['API key', readFileSync(join(demo, 'api-key'), 'utf8').trim()],
    ['kiln password', kilnLogin.password],
    ['compressor password', compressorLogin.password],
    ['works orders password', ordersLogin.password],
    ['password of who writes records', recordsLogins.writer.password],
    ['password of who reads records', recordsLogins.reader.password],
  ]
  for (const [, password] of Object.values(people)) found.push(['password of a person', password])
  for (const [name, password] of Object.entries(streamUsers)) found.push([`stream password of ${name}`, password])
  for (const [name, { secret }] of Object.entries(receiverUsers)) found.push([`receiver password of ${name}`, secret])
  for (const [key, { secret }] of Object.entries(objectKeys)) found.push([`secret of the key ${key} of the object store`, secret])
  for (const u of brokerUsers) if (u.password) found.push([`broker password of ${u.name}`, u.password])
  for (const file of readdirSync(join(demo, 'pki')).filter((f) => f.includes('key')))
    for (const line of keyMaterial(readFileSync(join(demo, 'pki', file), 'utf8'))) found.push([`private key ${file}`, line])
  found.push(['password of who reads the events of hubs', eventsReader.password])
  for (const file of readdirSync(join(demo, 'hubs'))) {
    const { authority, units, kit } = JSON.parse(readFileSync(join(demo, 'hubs', file), 'utf8')) as KeptHub
    for (const { name, keys } of units) for (const key of keys) found.push([`key of ${name} in ${file}`, key])
    for (const pem of [authority.key, kit?.key ?? '']) for (const line of keyMaterial(pem)) found.push([`private key in ${file}`, line])
  }
  return found.filter(([, text]) => text.length > 0)
}

/** What was made with a key: a token of the hub by token, and any signed JWT. */
const TOKENS = [/seal=[\w+/%-]{30,}/, /eyJ[\w-]{8,}\.eyJ[\w-]{8,}\.[\w-]{30,}/]

/** As it is, and as bytea text, base64 and JSON text would show it. */
const forms = (secret: string) => [
  secret,
  Buffer.from(secret).toString('hex'),
  Buffer.from(secret).toString('base64').replace(/=+$/, ''),
  encodeURIComponent(secret),
]

function where(text: string, secrets: readonly [string, string][]): string[] {
  const tokens = TOKENS.flatMap((token) => token.exec(text)?.[0].slice(0, 12) ?? [])
  return [...secrets.filter(([, s]) => forms(s).some((f) => text.includes(f))).map(([name]) => name), ...tokens.map((t) => `token ${t}`)]
}

test('no secret of the whole run stands in the database, in a log, or in an answer', async () => {
  const secrets = secretsOfThisRun()
  expect(secrets.length).toBeGreaterThan(15)
  // The search finds what is there.
  expect(where(`x${kilnLogin.password}x`, secrets)).toEqual(['kiln password'])
  expect(where(Buffer.from(kilnLogin.password).toString('hex'), secrets)).toEqual(['kiln password'])
  expect(where(`unit=a&until=1&seal=${'Ab3%2B'.repeat(8)}`, secrets)).toEqual(['token seal=Ab3%2BA'])
  expect(secrets.filter(([name]) => name.startsWith('key of')).length).toBeGreaterThan(3)

  const dump = execFileSync(join(postgresBin()!, 'pg_dump'), ['--inserts', '--dbname', process.env.EMBRIK_E2E_DATABASE_URL ?? ''], {
    maxBuffer: 1 << 30,
  }).toString('latin1')
  expect(dump).toContain('INSERT INTO public.credential')
  expect(dump).toContain('INSERT INTO public.outbox_cursor')
  expect(where(dump, secrets)).toEqual([])

  const logs = readdirSync(join(home, 'logs')).filter((f) => f.endsWith('.log'))
  expect(logs.length).toBeGreaterThan(2)
  for (const file of logs) expect([file, ...where(readFileSync(join(home, 'logs', file), 'latin1'), secrets)]).toEqual([file])

  const answers = readFileSync(answersFile, 'utf8')
  expect(answers.length).toBeGreaterThan(100_000)
  expect(where(answers, secrets)).toEqual([])
  for (const route of Object.values(routes)) {
    if (route.method !== 'GET' || route.path.includes(':') || route.path === '/api/live') continue
    const path = route.path === '/api/wall' ? `/api/wall?from=${Date.now() - 60_000}&to=${Date.now()}&sliceMs=10000` : route.path
    const response = await fetch(`${web}${path}`, { headers: { authorization: `Bearer ${readFileSync(join(demo, 'api-key'), 'utf8').trim()}` } })
    expect([route.path, ...where(await response.text(), secrets)]).toEqual([route.path])
  }
  expect(await api<unknown[]>('GET', '/api/credentials')).not.toEqual([])
})
