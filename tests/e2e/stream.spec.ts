import { api, expect, goLive, ledger, logIn, panel, tellPanel, test, wholeLog } from './support'

const put = (faults: object) =>
  fetch(`${panel}/api/stream/faults`, { method: 'PUT', headers: { 'content-type': 'application/json' }, body: JSON.stringify(faults) })
test.afterEach(async () => {
  await put({})
})

test.afterAll(async () => {
  const named = async (path: string, name: string) => (await api<{ id: string; name: string }[]>('GET', path)).filter((x) => x.name === name)
  for (const { id } of await named('/api/publications', 'Zone 4, to the stream by hand')) {
    await api('POST', `/api/publications/${id}/pause`)
    await api('DELETE', `/api/publications/${id}`)
  }
  for (const { id } of await named('/api/destinations', 'Stream by hand')) await api('DELETE', `/api/destinations/${id}`)
})

const port = Number(process.env.EMBRIK_E2E_BASE ?? 5600) + 17

test('a stream is added: its check fails for a log-in that is meant for elsewhere and for one that is refused, is mended, and a publication is confirmed on the wall', async ({
  page,
}) => {
  await logIn(page)
  await page.goto('/destinations?add')
  const form = page.getByRole('dialog')
  await form.getByLabel('Kind').selectOption({ label: 'Stream' })
  await form.getByLabel('Name', { exact: true }).fill('Stream by hand')
  await form.getByLabel('Servers').fill(`127.0.0.1:${port}`)
  await form.getByLabel('Trusted authority').selectOption({ label: 'Varnmoor Works Authority' })
  await form.getByLabel('Log-in by').selectOption('SCRAM-SHA-256')
  await form.getByLabel('Certificate or log-in', { exact: true }).selectOption({ label: 'Collector at the site broker' })
  await form.getByLabel('Witness certificate or log-in').selectOption({ label: 'Witness at the works stream' })
  const step = (key: string) => form.locator(`[data-step="${key}"]`)
  const check = form.getByRole('button', { name: /^Check (the connection|again)$/ })
  await check.click()
  await expect(form).toContainText(`Collector at the site broker is not meant for kafka-secure://127.0.0.1:${port}`)
  await form.getByLabel('Certificate or log-in', { exact: true }).selectOption({ label: 'Embrik at the works stream' })
  await put({ refuseLogins: true })
  await check.click()
  await expect(step('login')).toHaveAttribute('data-state', 'failed')
  await expect(step('login')).toContainText(/log-in|password/i)
  await put({})
  await check.click()
  await expect(step('login')).toContainText('logged in as embrik by SCRAM-SHA-256')
  // Of the other node, which the cluster names.
  await expect(step('nodes')).toContainText(String(port + 12))
  await expect(step('witness')).toHaveAttribute('data-state', 'passed')
  await form.getByRole('button', { name: 'Add destination' }).click()
  await expect(form).toBeHidden()
  await expect(page.getByRole('row', { name: /Stream by hand/ })).toContainText('running')

  // Begun for the broker; with the other destination the address follows it, and says what it loses.
  await page.goto('/publications?add')
  await page.getByLabel('Name', { exact: true }).fill('Zone 4, to the stream by hand')
  await page.getByRole('checkbox', { name: /Zone 4/ }).check()
  await page.getByRole('region', { name: 'When' }).getByRole('button').first().click()
  await page.getByRole('button', { name: 'Every', exact: true }).click()
  await page.getByLabel('Seconds').fill('1')
  const address = page.getByRole('region', { name: 'Address' })
  await address.getByRole('button').first().click()
  await address.getByLabel('retain: a new subscriber').check()
  await page.getByRole('region', { name: 'Through' }).getByRole('button').first().click()
  await page.getByLabel('Destination', { exact: true }).selectOption({ label: 'Stream by hand' })
  await expect(page.getByText('It has no retain there')).toBeVisible()
  await expect(address).toContainText('{path}.state')
  await address.getByRole('button').first().click()
  const topic = address.getByRole('textbox', { name: 'Topic', exact: true })
  await topic.fill('{enterprise}/works')
  await expect(address).toContainText('/ may not stand in a topic there')
  await topic.fill('{enterprise}.works')
  await expect(address.getByRole('tree', { name: 'Topics' })).toContainText('varnmoor.works')
  await goLive(page)
  await expect(page.locator('[data-state="live"]')).toContainText('version 1')
  await expect(page.getByText('Confirmed by witness')).toBeVisible()
  await page.goto('/proof')
  const line = page.locator('[data-line="Zone 4, to the stream by hand"]')
  await expect.poll(async () => Number((await line.locator('[data-count="arrived"]').textContent())?.replace(/\D/g, ''))).toBeGreaterThanOrEqual(3)
  await expect(line.locator('[data-count="missing"]')).toHaveText('0')
})

test("what goes wrong at the stream stands on the wall and in the stream's own log", async ({ page }) => {
  const altered = async () => (await ledger()).reduce((n, l) => n + (l.counts as Record<string, number>).altered!, 0)
  const before = await altered()
  await page.goto(panel)
  const faults = page.getByRole('form', { name: 'Faults of the stream' })
  await faults.getByLabel('Alter, %').fill('80')
  await faults.getByRole('button', { name: 'Set' }).click()
  await expect(faults.getByText('in force')).toBeVisible()
  await expect.poll(altered, { timeout: 90_000 }).toBeGreaterThan(before + 5)
  await faults.getByRole('button', { name: 'Clear all' }).click()
  await expect(faults.getByText('in force')).toBeHidden()
  const log = await wholeLog<{ n: number; fate: string; id: string | null }>('stream')
  expect(log.arrivals.filter((a) => a.fate === 'altered').length).toBeGreaterThan(5)
  expect(log.arrivals.find((a) => a.id)!.id).toMatch(/^[0-9a-f]{8}\.\d+\.\d+$/)
})

test('a publication whose payloads begin with the number of their schema goes live when the registry takes it, and says why when not', async ({
  page,
}) => {
  const [stream] = (await api<{ id: string; name: string }[]>('GET', '/api/destinations')).filter((d) => d.name === 'Works stream')
  const [zone] = (await api<{ id: string; name: string }[]>('GET', '/api/equipment')).filter((e) => e.name === 'Zone 4')
  const draft = {
    ...{ name: 'Zone 4, by number', equipmentIds: [zone!.id], trigger: { kind: 'every', seconds: 1 }, destinationId: stream!.id },
    shape: { kind: 'avro', framing: 'registry', namespace: 'varnmoor' },
    address: { kind: 'stream', topic: '{enterprise}.works', key: '{unit}', topicRule: 'slug', headers: [], contentType: '' },
  }
  const { id } = await api<{ id: string }>('POST', '/api/publications', draft)
  try {
    await tellPanel('/api/schemas/faults', { readOnly: true }, 'PUT')
    await logIn(page)
    await page.goto(`/publications?id=${id}`)
    await goLive(page)
    await expect(page.getByText('the registry does not allow it').first()).toBeVisible()
    await tellPanel('/api/schemas/faults', {}, 'PUT')
    await goLive(page)
    await expect(page.locator('[data-state="live"]')).toContainText('version 1')
    await expect(page.getByText('Confirmed by witness')).toBeVisible()
  } finally {
    await tellPanel('/api/schemas/faults', {}, 'PUT')
    await api('POST', `/api/publications/${id}/pause`).catch(() => null)
    await api('DELETE', `/api/publications/${id}`)
  }
})
