import type { Page } from '@playwright/test'
import { expect, logIn, test } from './support'

const chosen = (page: Page, list: string) => page.getByRole('grid', { name: list }).getByRole('row', { selected: true })

test('lists of things are one stop of the Tab key: arrows, Home and End choose, Enter opens', async ({ page }) => {
  await logIn(page)
  await page.goto('/sources')
  const rows = page.getByRole('grid', { name: 'Sources' }).locator('tbody tr')
  await expect(rows.first()).toHaveAttribute('aria-selected', 'true')
  const names = await rows.evaluateAll((all) => all.map((row) => row.getAttribute('data-source')))
  expect(names.length).toBeGreaterThan(3)
  // Of all rows one is reached by Tab.
  await expect(page.locator('[aria-label="Sources"] tbody tr[tabindex="0"]')).toHaveCount(1)
  await chosen(page, 'Sources').focus()
  await page.keyboard.press('ArrowDown')
  await expect(chosen(page, 'Sources')).toHaveAttribute('data-source', names[1]!)
  await expect(chosen(page, 'Sources')).toBeFocused()
  await expect(page.getByRole('complementary', { name: 'Peek' }).getByRole('heading', { name: names[1]!, level: 2 })).toBeVisible()
  await expect(page).toHaveURL(/source=/)
  await page.keyboard.press('End')
  await expect(chosen(page, 'Sources')).toHaveAttribute('data-source', names.at(-1)!)
  await page.keyboard.press('ArrowDown')
  await expect(chosen(page, 'Sources')).toHaveAttribute('data-source', names.at(-1)!)
  await page.keyboard.press('Home')
  await expect(chosen(page, 'Sources')).toHaveAttribute('data-source', names[0]!)
  await page.keyboard.press('Enter')
  await expect(page.getByRole('dialog')).toContainText(names[0]!)
  await page.keyboard.press('Escape')
  await expect(page.getByRole('dialog')).toHaveCount(0)
  await expect(chosen(page, 'Sources')).toBeFocused()

  await page.goto('/destinations')
  await chosen(page, 'Destinations').focus()
  await page.keyboard.press('Enter')
  await expect(page.getByRole('form', { name: 'Destination' })).toBeVisible()
  await page.keyboard.press('Escape')

  await page.goto('/proof')
  const counts = page.getByRole('grid', { name: 'Counts' }).locator('tbody tr')
  await expect(counts.nth(1)).toBeVisible()
  const second = await counts.nth(1).getAttribute('data-line')
  await chosen(page, 'Counts').focus()
  await page.keyboard.press('ArrowDown')
  await expect(chosen(page, 'Counts')).toHaveAttribute('data-line', second!)
  await expect(chosen(page, 'Counts')).toBeFocused()
  await expect(page.getByRole('complementary', { name: 'Peek' })).toContainText(second!)
})

test('the sheet that adds a person or a key stands in the address', async ({ page }) => {
  await logIn(page, 'administrator')
  await page.goto('/settings')
  await page.getByRole('button', { name: 'New API key' }).click()
  await expect(page).toHaveURL(/add=key/)
  await page.reload()
  await expect(page.getByRole('dialog', { name: 'New API key' })).toBeVisible()
  await page.getByRole('button', { name: 'Cancel' }).click()
  await expect(page).not.toHaveURL(/add=/)
})

test('what is looked at first is there before all tags are', async ({ page }) => {
  await logIn(page)
  let release: () => void = () => undefined
  const held = new Promise<void>((done) => {
    release = done
  })
  // Those that are asked for by name come; all of them do not.
  await page.route(/\/api\/tags$/, (route) => held.then(() => route.continue()))
  await page.goto('/tags')
  const bar = page.locator('main')
  await expect(page.getByRole('grid').getByRole('row').nth(5)).toBeVisible()
  await expect(bar).toContainText('...')
  await expect(page.getByRole('button', { name: 'Export' })).toBeDisabled()

  const peek = page.getByRole('complementary', { name: 'Peek' })
  await page.goto('/equipment')
  await expect(page.getByRole('table', { name: 'Members' })).toBeVisible()
  await expect(peek.getByRole('heading', { name: 'Payload now' })).toBeVisible()
  const payload = await peek.textContent()
  const members = await page.getByRole('table', { name: 'Members' }).locator('tbody tr').count()
  await expect(page.getByRole('table', { name: 'Members' }).getByText('that is gone')).toHaveCount(0)

  await page.goto('/equipment/coverage')
  await expect(page.getByRole('grid', { name: 'Coverage' }).getByRole('row').nth(1)).toBeVisible()
  await expect(page.locator('[data-covered]')).toHaveText('...')
  await expect(page.getByRole('button', { name: 'Bind by pattern' })).toBeDisabled()

  release()
  await expect(page.locator('[data-covered]')).toContainText(' members filled')
  await expect(page.getByRole('button', { name: 'Bind by pattern' })).toBeEnabled()
  await page.goto('/equipment')
  await expect(page.getByRole('table', { name: 'Members' }).locator('tbody tr')).toHaveCount(members)
  expect(payload).toContain('flat JSON')
})
