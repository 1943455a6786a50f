import { createSocket } from 'node:dgram'
import { readFileSync } from 'node:fs'
import { get } from 'node:https'
import { join } from 'node:path'
import aws4 from 'aws4'
import { Kafka, logLevel } from 'kafkajs'
import mqtt from 'mqtt'
import pg from 'pg'
import { eventsReader, type KeptHub } from '../../src/standins/hub/kept'
import { objectBucket, objectKeys, recordsLogins, relayGroup } from '../../src/standins/plant'
import { rowsOf } from '../engine/files'
import { receiver } from '../handed-over'
import { api, demo, expect, goLive, home, ledger, logIn, port, sums, tellPanel, test } from './support'

test.describe.configure({ mode: 'serial' })

const count = (text: string | null) => Number((text ?? '').replace(/,/g, ''))

test('confirmed messages stand on the page within a minute of the start', async ({ page }) => {
  await logIn(page, 'viewer')
  await page.goto('/proof')
  const confirmed = page.locator('[data-line="Kiln zones, each change"] [data-count="arrived"]')
  await expect.poll(async () => count(await confirmed.textContent()), { timeout: 180_000 }).toBeGreaterThan(10)
  expect(Date.now() - Number(process.env.EMBRIK_E2E_BEGAN)).toBeLessThan(180_000)
  // The picture follows: at least one brick is filled.
  await expect(page.locator('[data-brick="confirmed"]').first()).toBeVisible()
})

test('a source added anew, refused and then trusted, is followed to the far end', async ({ page }) => {
  const { thumbprint } = await api<{ thumbprint: string }>('GET', '/api/application')
  await tellPanel(`/api/kiln/certificates/${thumbprint}`, { trusted: false })
  await logIn(page)

  // Source: the server refuses us, says whose certificate it saw, and takes us once it is trusted there.
  await page.goto('/sources')
  await page.getByRole('button', { name: 'Add source' }).click()
  const form = page.getByRole('dialog')
  await form.getByRole('button', { name: /^OPC UA/ }).click()
  await form.getByLabel('Name', { exact: true }).fill('Kiln anew')
  await form.getByLabel('Endpoint').fill('kiln:4840')
  await expect(form.getByText('Like opc.tcp://host:4840/path')).toBeVisible()
  await form.getByLabel('Endpoint').fill(`opc.tcp://127.0.0.1:${port + 14}/kiln`)
  await form.getByRole('button', { name: 'Ask the server what it offers' }).click()
  const offers = form.getByRole('list', { name: 'Offered by the server' })
  await expect(offers.getByRole('button', { name: /^None/ })).toContainText('no protection')
  await offers.getByRole('button', { name: /SignAndEncrypt, Basic256Sha256/ }).click()
  await form.getByLabel('User').fill('embrik')
  await form.getByLabel('Password').fill('kiln-reader-4')
  await form.getByRole('button', { name: 'Check the connection' }).click()
  // Nobody here knows the server yet: a person looks at its certificate and decides.
  await expect(form.locator('[data-step="server"]')).toHaveAttribute('data-state', 'failed')
  const server = form.getByRole('region', { name: 'Certificate of the server' })
  await expect(server).toContainText('Seen for the first time')
  await expect(server).toContainText('CN=Kiln controller')
  await server.getByRole('button', { name: 'Trust this server' }).click()
  await expect(form.locator('[data-step="trusted"]')).toHaveAttribute('data-state', 'failed')
  await expect(form.locator('[data-step="trusted"]')).toContainText(thumbprint)
  await expect(form.locator('[data-step="session"]')).toHaveAttribute('data-state', 'skipped')
  await tellPanel(`/api/kiln/certificates/${thumbprint}`, { trusted: true })
  await form.getByRole('button', { name: 'Check again' }).click()
  await expect(form.locator('[data-step="read"]')).toHaveAttribute('data-state', 'passed')
  for (const step of ['name', 'port', 'channel', 'server', 'trusted', 'session'])
    await expect(form.locator(`[data-step="${step}"]`)).toHaveAttribute('data-state', 'passed')
  await expect(form.getByLabel('Trusted server')).toHaveValue(/^[0-9a-f]{64}$/)
  await form.getByRole('button', { name: 'Add source' }).click()
  await expect(page.locator('[data-source="Kiln anew"]')).toContainText('running')

  // Tags: from the browse tree.
  await page.goto('/sources/browse')
  await page.getByLabel('Source', { exact: true }).selectOption({ label: 'Kiln anew' })
  const nodes = page.getByRole('tree', { name: 'Nodes' })
  await nodes.getByRole('button', { name: 'Open Tunnel Kiln 1' }).click()
  await nodes.getByRole('button', { name: 'Open Zone 3', exact: true }).click()
  for (const node of ['temperature', 'setpoint', 'burner']) await nodes.getByRole('checkbox', { name: node, exact: true }).check()
  await page.getByLabel('Put before names').fill('Anew/')
  await page.getByLabel('Levels left out').fill('1')
  // Their values show before anything is added.
  const chosen = page.getByRole('list', { name: 'Tags to be added' })
  await expect(chosen.getByRole('listitem').filter({ hasText: 'Anew/Zone 3/temperature' })).toContainText(/5\d\d\.\d/)
  await page.getByRole('button', { name: 'Add 3 tags' }).click()
  await expect(page.getByText('3 tags added')).toBeVisible()
  // They are marked as tags, and a pattern finds their like over all zones.
  await expect(nodes.getByText('is Anew/Zone 3/temperature')).toBeVisible()
  await page.getByLabel('Pattern').fill('**/Zone */*temperature')
  await page.getByRole('button', { name: 'Find', exact: true }).click()
  const found = page.getByRole('region', { name: 'Found' })
  await expect(found).toContainText('48 of')
  await expect(found).toContainText('Tunnel Kiln 1/Zone 12/roof temperature')
  await found.getByRole('button', { name: 'Choose all 48' }).click()
  await expect(page.getByRole('button', { name: 'Add 47 tags' })).toBeVisible()
  await page.goto('/tags')
  await page.getByLabel('filter names, units, addresses').fill('Anew')
  const row = page.getByRole('row', { name: 'Anew/Zone 3/temperature' })
  await expect(row).toContainText('°C')
  await expect(row).toContainText('good')

  // Equipment: a new zone, its members bound by hand.
  await page.goto('/equipment')
  await page.getByRole('treeitem', { name: 'Tunnel Kiln 1', exact: true }).click()
  await page.getByRole('button', { name: 'Add equipment' }).click()
  const zone = page.getByRole('dialog')
  await zone.getByLabel('Name').fill('Zone 13')
  await zone.getByLabel('Class').selectOption({ label: 'Kiln Zone' })
  await zone.getByRole('button', { name: 'Add equipment' }).click()
  await expect(page.getByRole('heading', { name: 'Zone 13' })).toBeVisible()
  for (const [member, tag] of [
    ['Temperature', 'Anew/Zone 3/temperature'],
    ['Setpoint', 'Anew/Zone 3/setpoint'],
    ['Burner', 'Anew/Zone 3/burner'],
  ] as const) {
    await page.getByRole('button', { name: `Bind ${member}` }).click()
    await page.getByLabel(`Tag for ${member}`).fill(tag)
    await page.getByLabel(`Tag for ${member}`).press('Enter')
    await expect(page.getByRole('table', { name: 'Members' }).getByRole('link', { name: tag })).toBeVisible()
  }
  await expect(page.locator('[data-payload]')).toContainText('"temperature"')

  // Publication: live, with a frozen version.
  await page.goto('/publications?add')
  await page.getByLabel('Name', { exact: true }).fill('Zone 13, each second')
  await page.getByRole('checkbox', { name: /Zone 13/ }).check()
  await expect(page.getByText('Empty, so left out: Zone 13 Gas flow')).toBeVisible()
  await page.getByRole('region', { name: 'When' }).getByRole('button').first().click()
  await page.getByRole('button', { name: 'Every', exact: true }).click()
  await page.getByLabel('Seconds').fill('1')
  await expect(page.locator('[data-payload]')).toContainText('"temperature"')
  await goLive(page)
  await expect(page.locator('[data-state="live"]')).toContainText('version 1')
  await expect(page.getByText('Confirmed by witness')).toBeVisible()

  // Proof: what was sent was confirmed.
  await page.goto('/proof')
  const line = page.locator('[data-line="Zone 13, each second"]')
  await expect.poll(async () => count(await line.locator('[data-count="arrived"]').textContent()), { timeout: 90_000 }).toBeGreaterThanOrEqual(5)
  await expect
    .poll(async () => {
      const sent = count(await line.locator('[data-count="sent"]').textContent())
      return sent > 0 && sent === count(await line.locator('[data-count="arrived"]').textContent())
    })
    .toBe(true)
  await expect(line.locator('[data-count="missing"]')).toHaveText('0')
})

/** Waits until nothing is on its way any more, at one moment; gives the sums of that moment. */
async function settled() {
  // Of one moment: asked for again, there may be new ones on their way.
  let s = await sums()
  await expect
    .poll(
      async () => {
        s = await sums()
        return s.produced > 0 && s.arrived + s.missing + s.dropped + s.unknown >= s.produced && s.waiting === 0
      },
      { timeout: 180_000, intervals: [100] },
    )
    .toBe(true)
  return s
}

test('the link to the broker is cut for 20 seconds: nothing is missing afterwards', async ({ page }) => {
  await logIn(page, 'operator')
  await page.goto('/proof')
  const before = await sums()
  const up = page.locator('[data-figure="destinations"]')
  await expect(up).toHaveText(/^\d+ up$/)
  const all = Number.parseInt((await up.textContent()) ?? '', 10)
  await tellPanel('/api/broker/cut', { seconds: 20 })
  await expect(up).toHaveText(`${all - 1} up`)
  await expect(page.locator('[data-total="Waiting"]')).not.toHaveText('0')
  const events = page.getByRole('list', { name: 'Events' })
  await expect(events.getByText(/The broker hung up/).first()).toBeVisible()
  await expect(up).toHaveText(`${all} up`, { timeout: 120_000 })
  const after = await settled()
  expect(after.produced - before.produced).toBeGreaterThan(60)
  expect(after).toMatchObject({ missing: 0, dropped: 0, unknown: 0 })
  await expect(page.locator('[data-total="Missing"]')).toHaveText('0')
  await expect(events.getByText(/up again after/).first()).toBeVisible()
})

test('the link to the kiln is cut: tags keep their last value and say so, and come back by themselves', async ({ page }) => {
  await logIn(page, 'viewer')
  await page.goto('/tags')
  await page.getByLabel('filter names, units, addresses').fill('zone 2/temperature')
  const row = page.getByRole('row', { name: 'Zone 2/temperature' })
  await expect(row).toContainText('good')
  const up = (await page.locator('[data-figure="sources"]').textContent()) ?? ''
  await tellPanel('/api/kiln/cut', { seconds: 4 })
  await expect(row).toContainText('last usable value')
  await expect(page.locator('[data-figure="sources"]')).not.toHaveText(up)
  await expect(row).toContainText('good', { timeout: 120_000 })
  const { missing } = await sums()
  expect(missing).toBe(0)
})

test('the engine is killed: it comes back, and nothing is missing', async ({ page }) => {
  await logIn(page, 'operator')
  await page.goto('/proof')
  const away = page.getByRole('status').filter({ hasText: /The engine does not answer|connection to Embrik is lost/ })
  await expect(page.locator('[data-line="Kiln zones, each change"]')).toBeVisible()
  const before = await sums()
  const pid = Number(readFileSync(join(home, 'logs', 'engine.pid'), 'utf8'))
  process.kill(pid, 'SIGKILL')
  await expect(away).toBeVisible()
  await expect.poll(async () => Number(readFileSync(join(home, 'logs', 'engine.pid'), 'utf8'))).not.toBe(pid)
  await expect(away).toBeHidden({ timeout: 90_000 })
  await expect.poll(async () => (await sums().catch(() => before)).arrived, { timeout: 180_000 }).toBeGreaterThan(before.arrived + 50)
  const after = await settled()
  expect(after).toMatchObject({ missing: 0, dropped: 0, unknown: 0 })
  expect(after.arrived).toBe(after.produced)
  for (const line of await ledger()) expect(line.counts.arrived).toBeGreaterThan(0)
})

test('a second MQTT client with the certificate of the demo folder reads the messages; one without is refused', async () => {
  const read = (file: string) => readFileSync(join(demo, file))
  const options = {
    protocol: 'mqtts' as const,
    host: '127.0.0.1',
    port: port + 13,
    ca: read('ca.pem'),
    protocolVersion: 5 as const,
    reconnectPeriod: 0,
  }
  const client = mqtt.connect({ ...options, cert: read('witness.cert.pem'), key: read('witness.key.pem') })
  const got: string[] = []
  client.on('message', (topic, payload) => got.push(`${topic} ${payload}`))
  await new Promise<void>((done, failed) => {
    client.once('connect', () => done())
    client.once('error', failed)
  })
  await client.subscribeAsync('varnmoor/lower-pit/firing/tunnel-kiln-1/+/state', { qos: 1 })
  await expect.poll(() => got.length, { timeout: 90_000 }).toBeGreaterThan(3)
  expect(JSON.parse(got[0]!.slice(got[0]!.indexOf(' ')))).toMatchObject({ temperature: expect.any(Number), burner: expect.any(Boolean) })
  client.end(true)
  const without = mqtt.connect(options)
  const refused = await new Promise<unknown>((done) => {
    without.once('connect', () => done('let in'))
    without.once('error', done)
  })
  without.end(true)
  expect(refused).toMatchObject({ code: 0x87 })
})

test('every message of the running demo is as its receivers were handed it', async () => {
  const live = (await api<{ id: string; name: string; state: string }[]>('GET', '/api/publications')).filter((p) => p.state === 'live')
  expect(live.length).toBeGreaterThanOrEqual(2)
  const readers = await Promise.all(
    live.map(async (p) => ({ name: p.name, read: await receiver(await api<object>('GET', `/api/publications/${p.id}/asyncapi`)), seen: 0 })),
  )
  const file = (name: string) => readFileSync(join(demo, name))
  const client = mqtt.connect({
    ...{ protocol: 'mqtts', host: '127.0.0.1', port: port + 13, ca: file('ca.pem'), cert: file('witness.cert.pem'), key: file('witness.key.pem') },
    ...{ protocolVersion: 5, reconnectPeriod: 0 },
  })
  const wrong: string[] = []
  const came = (topic: string, payload: Buffer, headers: Record<string, string>) => {
    for (const r of readers) {
      const said = r.read({ topic, payload, headers })
      if (said === undefined) continue
      r.seen++
      if (said !== null) wrong.push(`${r.name}: ${said}`)
    }
  }
  client.on('message', (topic, payload, packet) => came(topic, payload, { ...packet.properties?.userProperties } as Record<string, string>))
  await new Promise<void>((done, failed) => {
    client.once('connect', () => done())
    client.once('error', failed)
  })
  await client.subscribeAsync('varnmoor/#', { qos: 1 })
  const kafka = new Kafka({
    brokers: [`127.0.0.1:${port + 17}`],
    ssl: { ca: [file('ca.pem')] },
    sasl: { mechanism: 'scram-sha-512', username: 'reader', password: 'clay-reader-8' },
    logLevel: logLevel.NOTHING,
  })
  const consumer = kafka.consumer({ groupId: 'office' })
  await consumer.connect()
  await consumer.subscribe({ topics: ['varnmoor.kiln'] })
  await consumer.run({
    eachMessage: async ({ topic, message }) => {
      expect(message.key!.toString()).toMatch(/^Zone \d+$/)
      came(topic, message.value!, Object.fromEntries(Object.entries(message.headers ?? {}).map(([name, v]) => [name, String(v)])))
    },
  })
  // What the hubs took, from their events: where it went there stands beside it.
  const hubs = [['tarn', port + 22] as const, ['fell', port + 23] as const].map(async ([name, at]) => {
    const { authority } = JSON.parse(file(`hubs/${name}.json`).toString('utf8')) as KeptHub
    const events = new Kafka({
      brokers: [`127.0.0.1:${at}`],
      ssl: { ca: [authority.certificate] },
      sasl: { mechanism: 'scram-sha-256', username: eventsReader.user, password: eventsReader.password },
      logLevel: logLevel.NOTHING,
    }).consumer({ groupId: 'office' })
    await events.connect()
    await events.subscribe({ topics: [`${name}-events`], fromBeginning: true })
    await events.run({
      eachMessage: async ({ message }) => {
        const { 'hub-path': path = '', ...beside } = Object.fromEntries(Object.entries(message.headers ?? {}).map(([key, v]) => [key, String(v)]))
        came(path, message.value!, beside)
      },
    })
    return events
  })
  const ca = file('ca.pem')
  const authorization = `Basic ${Buffer.from('reader:clay-reader-9').toString('base64')}`
  let after = '0'
  const kept = () =>
    new Promise<{ items: { path: string; payload: string }[]; next: string }>((done, failed) => {
      const request = get(`https://127.0.0.1:${port + 24}/api/kept?after=${after}`, { ca, headers: { authorization } }, (answer) => {
        let text = ''
        answer.setEncoding('utf8').on('data', (part: string) => {
          text += part
        })
        answer.once('end', () => done(JSON.parse(text)))
      })
      request.once('error', failed)
    })
  const url = new URL(process.env.EMBRIK_E2E_DATABASE_URL ?? '')
  const { database, reader } = recordsLogins
  const records = new pg.Client({ host: url.hostname, port: Number(url.port), database, user: reader.user, password: reader.password })
  await records.connect()
  let row = '0'
  /** What lies in the table, without what is Embrik's and the table's own there. */
  const rows = async () => {
    const text = `select embrik_row::text as n, (to_jsonb(t) - 'embrik_row' - 'embrik_id')::text as row from kiln_zones t where embrik_row > $1 order by embrik_row`
    for (const r of (await records.query<{ n: string; row: string }>(text, [row])).rows) {
      row = r.n
      came('kiln_zones', Buffer.from(`[${r.row}]`), {})
    }
  }
  const hall = createSocket({ type: 'udp4', reuseAddr: true })
  hall.on('message', (octets) => {
    // UADP of version 1 with a publisher id of 16 bits: that of the publication (OPC 10000-14 7.2.4.4.2).
    expect([octets[0]! & 15, octets[1]! & 7, octets.readUInt16LE(octets[1]! & 0x80 ? 3 : 2)]).toEqual([1, 1, 77])
    came(`127.0.0.1:${port + 27}`, octets, {})
  })
  await new Promise<void>((done) => hall.bind({ address: relayGroup, port: port + 28 }, done))
  hall.addMembership(relayGroup, '127.0.0.1')
  const asked = new Set<string>()
  const object = (path: string) =>
    new Promise<Buffer>((done, failed) => {
      const login = { accessKeyId: 'reader', secretAccessKey: objectKeys.reader.secret }
      const { headers } = aws4.sign({ host: `127.0.0.1:${port + 25}`, path, service: 's3', region: 'us-east-1' }, login)
      const request = get(`https://127.0.0.1:${port + 25}${path}`, { ca, headers: headers as Record<string, string> }, (answer) => {
        const parts: Buffer[] = []
        answer.on('data', (part: Buffer) => parts.push(part)).once('end', () => done(Buffer.concat(parts)))
      })
      request.once('error', failed)
    })
  /** What lies in files of the lake that came since, with columns of time as texts again. */
  const files = async () => {
    const list = (await object(`/${objectBucket}/?list-type=2&prefix=lake%2Fkiln`)).toString('utf8')
    for (const [, key = ''] of list.matchAll(/<Key>([^<]+)<\/Key>/g)) {
      if (asked.has(key)) continue
      asked.add(key)
      for (const { embrik_id: _, at, ...rest } of rowsOf(key, await object(`/${objectBucket}/${key}`)))
        came(
          key.slice('lake/'.length).replace(/\.\d{8}T.*$/, ''),
          Buffer.from(JSON.stringify([{ at: new Date(Number(at)).toISOString(), ...rest }])),
          {},
        )
    }
  }
  await expect
    .poll(
      async () => {
        await rows()
        await files()
        const { items, next } = await kept()
        after = next
        for (const { path, payload } of items) came(path.slice(1), Buffer.from(payload), {})
        return readers.filter((r) => r.seen < 5).map((r) => r.name)
      },
      { timeout: 180_000 },
    )
    .toEqual([])
  client.end(true)
  await consumer.disconnect()
  for (const events of await Promise.all(hubs)) await events.disconnect()
  await records.end()
  hall.close()
  expect(wrong).toEqual([])
})
