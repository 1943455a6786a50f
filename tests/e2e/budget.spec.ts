import { draft } from './draft'
import { barriers, expect, goLive, logIn, test } from './support'

test('what a publication costs is reckoned from what was recorded; another way to send it is weighed against what it loses, and taken', async ({
  page,
}) => {
  const d = await draft('weighed')
  try {
    await logIn(page)
    await page.goto(`/publications?id=${d.id}`)
    await page.getByRole('button', { name: 'Data budget' }).click()
    const dialog = page.getByRole('dialog', { name: /^Data budget of weighed/ })
    await dialog.getByRole('spinbutton', { name: 'price a MB' }).fill('0.8')
    const ways = dialog.getByRole('grid', { name: 'Ways to send it' })
    // What is recorded is written some seconds later.
    await expect(async () => {
      await dialog.getByRole('button', { name: 'Reckon' }).click({ timeout: 2000 })
      await expect(ways.getByRole('row', { name: /^as it is [\d,]+ .*the same / })).toBeVisible({ timeout: 10_000 })
    }).toPass()
    await expect(dialog).toContainText(/messages and [\d.]+ (kB|MB|GB) a day, [\d.]+ (kB|MB|GB) a month, which cost [\d.]+/)
    await expect(ways.getByRole('row', { name: /^at most every 60 s/ })).toBeVisible()
    await expect(dialog.getByRole('button', { name: 'Stop' })).toBeHidden()
    await expect(ways).toHaveAttribute('aria-rowcount', '20')
    // Only what is on the screen is drawn.
    const scrollTo = (top: number) => ways.evaluate((grid, to) => grid.parentElement!.scrollTo(0, to), top)
    await scrollTo(10_000)
    await expect(ways.getByRole('row', { name: /^CBOR .*-\d+ % / })).toBeVisible()
    await expect(ways.getByRole('row', { name: /^zstd / })).toBeVisible()
    await scrollTo(0)
    await expect(dialog.getByRole('img', { name: 'Octets a day against what is lost' })).toBeVisible()
    await ways.getByRole('row', { name: /^at most every 60 s/ }).click()
    await expect(dialog.getByRole('table', { name: 'Members' }).getByRole('row').nth(1)).toContainText(/^Zone \d+ /)
    expect(await barriers(page)).toEqual([])
    await ways.getByRole('row', { name: /^at most every 10 s/ }).click()
    await dialog.getByRole('button', { name: 'Take at most every 10 s' }).click()
    await expect(dialog).toBeHidden()
    await expect(page.getByText(/^Taken: at most every 10 s/)).toBeVisible()
    await goLive(page)
    expect((await d.stored()).pace).toEqual({ mostS: 10 })
  } finally {
    await d.end()
  }
})

test('a publication goes ahead of what waits, by a connection of its own', async ({ page }) => {
  const d = await draft('ahead')
  try {
    await logIn(page)
    await page.goto(`/publications?id=${d.id}&section=safely`)
    const safely = page.getByRole('region', { name: 'Safely', exact: true })
    await safely.getByRole('checkbox', { name: /^goes ahead of what waits/ }).check()
    await expect(safely).toContainText('ahead of what waits, outbox up to')
    await goLive(page)
    await expect(page.locator('[data-state="live"]')).toContainText('version 1')
    await page.goto('/proof')
    const line = page.locator('[data-line="ahead"]')
    await expect(line).toContainText('ahead')
    await expect.poll(async () => Number(await line.locator('[data-count="arrived"]').textContent()), { timeout: 60_000 }).toBeGreaterThan(0)
  } finally {
    await d.end()
  }
})
