import type { Publication } from '~/contract/publication'
import { api, expect, goLive, ledger, logIn, test } from './support'

test('tags go out without equipment: a folder of them, looked at before, and accounted for', async ({ page }) => {
  await logIn(page)
  await page.goto('/publications?add=1')
  await page.getByLabel('Name', { exact: true }).fill('Meter by its tags')
  const what = page.getByRole('region', { name: 'What', exact: true })
  await what.getByRole('button', { name: 'Tags without equipment', exact: true }).click()
  await what.getByLabel('In folder').fill('Power Meter 2')
  await expect(what.getByRole('status')).toContainText(/Now \d+ tags? in 1 folder: Power Meter 2\//)
  const when = page.getByRole('region', { name: 'When', exact: true })
  await when.getByRole('button').first().click()
  await when.getByRole('button', { name: 'Every', exact: true }).click()
  const through = page.getByRole('region', { name: 'Through', exact: true })
  await through.getByRole('button').first().click()
  await through.getByLabel('Destination').selectOption({ label: 'Site broker' })
  const address = page.getByRole('region', { name: 'Address', exact: true })
  await address.getByRole('button').first().click()
  await address.getByRole('textbox', { name: 'Topic', exact: true }).fill('varnmoor/bare/{path}')
  await expect(page.getByRole('complementary', { name: 'Peek' })).toContainText('varnmoor/bare/power-meter-2')
  await goLive(page)
  await expect(page.locator('[data-state="live"]')).toContainText('version 1')
  const { id } = (await api<Publication[]>('GET', '/api/publications')).find((p) => p.name === 'Meter by its tags')!
  try {
    await expect
      .poll(async () => (await ledger()).find((l) => l.publication === 'Meter by its tags')?.counts.arrived, { timeout: 60_000 })
      .toBeGreaterThan(0)
    await page.reload()
    await expect(what).toContainText('tags in Power Meter 2')
  } finally {
    await api('POST', `/api/publications/${id}/pause`)
    await api('DELETE', `/api/publications/${id}`)
  }
})
