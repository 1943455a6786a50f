import { api, expect, goLive, logIn, port, test } from './support'

const place = `239.192.77.3:${port + 29}`

test.afterAll(async () => {
  const named = async (path: string, name: string) => (await api<{ id: string; name: string }[]>('GET', path)).filter((x) => x.name === name)
  for (const { id } of await named('/api/publications', 'Zone 5, in datagrams')) {
    await api('POST', `/api/publications/${id}/pause`)
    await api('DELETE', `/api/publications/${id}`)
  }
  for (const { id } of await named('/api/destinations', 'Datagrams by hand')) await api('DELETE', `/api/destinations/${id}`)
})

test('a destination for datagrams is added: its check fails at the interface, is mended, and what goes to a group is confirmed without being acknowledged', async ({
  page,
}) => {
  await logIn(page)
  await page.goto('/destinations?add')
  const form = page.getByRole('dialog')
  await form.getByLabel('Kind').selectOption({ label: 'Datagrams' })
  await form.getByLabel('Name', { exact: true }).fill('Datagrams by hand')
  // Nobody acknowledges, so that nothing can be waited for.
  await expect(form.getByLabel('Acknowledged within')).toHaveCount(0)
  const via = form.getByLabel('Network interface', { exact: true })
  await via.fill('eth-none')
  const step = (key: string) => page.locator(`[data-step="${key}"]`)
  const check = form.getByRole('button', { name: /^Check (the connection|again)$/ })
  await check.click()
  await expect(step('interface')).toHaveAttribute('data-state', 'failed')
  await expect(step('interface')).toContainText('There is no network interface eth-none here')
  await via.fill('127.0.0.1')
  await check.click()
  await expect(step('interface')).toContainText('has 127.0.0.1')
  await expect(step('witness')).toHaveAttribute('data-state', 'passed')
  await form.getByRole('button', { name: 'Add destination' }).click()
  await expect(form).toBeHidden()
  await expect(page.getByRole('row', { name: /Datagrams by hand/ })).toContainText('running')

  await page.goto('/publications?add')
  await page.getByLabel('Name', { exact: true }).fill('Zone 5, in datagrams')
  await page.getByRole('checkbox', { name: /Zone 5/ }).check()
  await page.getByRole('region', { name: 'When' }).getByRole('button').first().click()
  await page.getByRole('button', { name: 'Every', exact: true }).click()
  await page.getByLabel('Seconds').fill('1')
  await page.getByRole('region', { name: 'Through' }).getByRole('button').first().click()
  await page.getByLabel('Destination', { exact: true }).selectOption({ label: 'Datagrams by hand' })
  const address = page.getByRole('region', { name: 'Address' })
  await address.getByRole('button').first().click()
  const where = address.getByRole('textbox', { name: 'Group or host', exact: true })
  await where.fill('kiln/{unit}')
  await expect(address).toContainText('/ may not stand in it')
  await where.fill('224.0.0.5:4840')
  await expect(address).toContainText('Groups by which routers')
  await where.fill(place)
  await expect(page.getByText('By the standard a datagram holds')).toBeVisible()
  await goLive(page)
  await expect(page.locator('[data-state="live"]')).toContainText('version 1')
  await page.goto('/proof')
  const line = page.locator('[data-line="Zone 5, in datagrams"]')
  await expect.poll(async () => Number((await line.locator('[data-count="arrived"]').textContent())?.replace(/\D/g, ''))).toBeGreaterThanOrEqual(3)
  await expect(line.locator('[data-count="missing"]')).toHaveText('0')
  await expect(line.locator('[data-count="acknowledged"]')).toHaveText('-')
})
