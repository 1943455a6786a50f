import type { Publication } from '~/contract/publication'
import { api, barriers, expect, goLive, ledger, logIn, test } from './support'

test('rows of a query go out: its columns are looked at, what a message says of a row is chosen, and each is accounted for', async ({ page }) => {
  await logIn(page)
  await page.goto('/publications?add=1')
  await page.getByLabel('Name', { exact: true }).fill('Orders by row')
  const what = page.getByRole('region', { name: 'What', exact: true })
  await what.getByRole('button', { name: 'Rows of a source', exact: true }).click()
  await what.getByLabel('Source').selectOption({ label: 'Works orders' })
  await expect(what.getByRole('status')).toContainText(/Now \d+ rows?: each is a message/)
  const columns = what.getByRole('table', { name: 'Columns' })
  await expect(columns.getByRole('checkbox', { name: 'order_no', exact: true })).toBeChecked()
  await columns.getByRole('textbox', { name: 'Unit of quantity' }).fill('pcs')
  await columns.getByRole('checkbox', { name: 'customer_region', exact: true }).uncheck()
  // A row that is gone can only be told where something says so.
  await what.getByLabel('Removed rows too').check()
  await expect(what.getByText('Which member says that a row was removed?')).toBeVisible()
  await what.getByLabel('Change as').fill('change')
  await expect(what.getByText('Which member says that a row was removed?')).toHaveCount(0)
  await what.getByLabel('Name as').fill('row')
  const through = page.getByRole('region', { name: 'Through', exact: true })
  await through.getByRole('button').first().click()
  await through.getByLabel('Destination').selectOption({ label: 'Site broker' })
  const address = page.getByRole('region', { name: 'Address', exact: true })
  await address.getByRole('button').first().click()
  await address.getByRole('textbox', { name: 'Topic', exact: true }).fill('varnmoor/orders/{value.row}')
  const peek = page.getByRole('complementary', { name: 'Peek' })
  await expect(peek).toContainText('varnmoor/orders/')
  await expect(peek).toContainText(/"change":\s*"changed"/)
  // What a row names is looked up in the rows of a source too.
  const steps = page.getByRole('region', { name: 'Steps', exact: true })
  await steps.getByRole('button').first().click()
  await steps.getByRole('button', { name: 'Add a step' }).click()
  await page.getByRole('menuitem', { name: /^Look up in a source: / }).click()
  const step = steps.getByRole('listitem', { name: 'Step 1: Look up in a source' })
  await step.getByLabel('Member', { exact: true }).fill('line')
  await step.getByLabel('Source', { exact: true }).selectOption({ label: 'Works orders' })
  await step.getByLabel('Under', { exact: true }).fill('again')
  await expect(peek).toContainText(/"again\.product":\s*"/)
  expect(await barriers(page)).toEqual([])
  await goLive(page)
  await expect(page.locator('[data-state="live"]')).toContainText('version 1')
  const { id } = (await api<Publication[]>('GET', '/api/publications')).find((p) => p.name === 'Orders by row')!
  try {
    await expect
      .poll(async () => (await ledger()).find((l) => l.publication === 'Orders by row')?.counts.arrived, { timeout: 60_000 })
      .toBeGreaterThan(0)
    await page.reload()
    await expect(what).toContainText(/rows of Works orders, \d+ columns/)
    await expect(page.getByText(/version 1; \d+ rows/)).toHaveCount(0)
  } finally {
    await api('POST', `/api/publications/${id}/pause`)
    await api('DELETE', `/api/publications/${id}`)
  }
})
