import { expect, logIn, logInByForm, panel, test } from './support'

const list = (name: string) => `ul[aria-label="${name}"]`

test('the first page says whether all arrived, what is wrong and why; what is mended is over', async ({ page }) => {
  await logInByForm(page, 'viewer')
  await expect(page).toHaveURL(/\/proof\/wrong$/)
  await expect(page.locator('[data-sentence]')).toContainText(/sent in the last 24 hours/)
  await fetch(`${panel}/api/broker/cut`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: '{"seconds":12}' })
  const now = page.locator(list('Wrong now')).getByRole('listitem')
  const broker = now.filter({ has: page.getByText('Site broker', { exact: true }) })
  await expect(broker).toHaveCount(1, { timeout: 60_000 })
  await expect(broker).toContainText(/broker/i)
  // While a link is down no share is claimed.
  await expect(page.locator('[data-figure="proof"]')).toHaveText('link down')
  await expect(broker).toHaveCount(0, { timeout: 120_000 })
  await expect(
    page
      .locator(list('Over, in the last hour'))
      .getByRole('listitem')
      .filter({ has: page.getByText('Site broker', { exact: true }) })
      .first(),
  ).toBeVisible()
  await expect(page.locator('[data-figure="proof"]')).toHaveText(/%/)
})

test('tags in trouble stand there together, and lead to just these tags', async ({ page }) => {
  await logIn(page, 'viewer')
  await page.goto('/')
  // A probe of the demo falls silent for good soon after the start.
  const stale = page
    .locator(list('Wrong now'))
    .getByRole('listitem')
    .filter({ hasText: /Probe 3.*stale/ })
  await expect(stale.first()).toBeVisible({ timeout: 270_000 })
  await stale.first().getByRole('link').click()
  await expect(page).toHaveURL(/\/tags\?.*kind=stale/)
  const rows = page.getByRole('grid', { name: 'Tags' }).getByRole('row')
  await expect(rows.nth(1)).toContainText('stale', { timeout: 135_000 })
  await page.goto('/sources')
  await expect(page.getByRole('grid', { name: 'Sources' })).toContainText('running')
})
