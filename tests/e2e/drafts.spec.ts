import type { Page } from '@playwright/test'
import { api, expect, logIn, test } from './support'

interface Stored {
  id: string
  name: string
  version: number
  [key: string]: unknown
}
const publications = () => api<Stored[]>('GET', '/api/publications')
const name = (page: Page) => page.getByRole('form', { name: 'Publication' }).getByLabel('Name', { exact: true })

test('what is typed into a publication outlives leaving and reloading, and can be thrown away', async ({ page }) => {
  const [p] = await publications()
  await logIn(page)
  await page.goto(`/publications?id=${p!.id}`)
  await name(page).fill('Half written')
  await page.getByRole('navigation', { name: 'Course' }).getByRole('link', { name: /Tags/ }).click()
  await page.goBack()
  await expect(name(page)).toHaveValue('Half written')
  await page.reload()
  await expect(name(page)).toHaveValue('Half written')
  await expect(page.getByRole('note')).toContainText('did not save it')
  await page.getByRole('button', { name: 'Go back to what is saved' }).click()
  await expect(name(page)).toHaveValue(p!.name)
  await page.reload()
  await expect(name(page)).toHaveValue(p!.name)
})

test('a colleague saves the same publication first: both are shown, and neither is lost', async ({ page }) => {
  const [p] = await publications()
  await logIn(page)
  await page.goto(`/publications?id=${p!.id}`)
  await name(page).fill('Named by me')
  const { id, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...draft } = p!
  await api('PUT', `/api/publications/${id}`, { ...draft, name: 'Named by a colleague' })
  await page.getByRole('button', { name: 'Save', exact: true }).click()
  const both = page.getByRole('table', { name: 'Where the two differ' })
  await expect(both).toContainText('Named by a colleague')
  await expect(both).toContainText('Named by me')
  await page.getByRole('button', { name: 'Take theirs' }).click()
  await expect(name(page)).toHaveValue('Named by a colleague')
  await page.getByRole('button', { name: 'Back to mine' }).click()
  await expect(name(page)).toHaveValue('Named by me')
  await page.getByRole('button', { name: 'Save', exact: true }).click()
  await expect.poll(async () => (await publications()).find((x) => x.id === id)!.name).toBe('Named by me')
  await api('PUT', `/api/publications/${id}`, draft)
})

test('a dialog begins in its first field, asks before it loses what was typed, and has it again after a reload, but no secret', async ({ page }) => {
  await logIn(page, 'administrator')
  await page.goto('/sources?add')
  await page
    .getByRole('button', { name: /OPC UA/ })
    .first()
    .click()
  const dialog = page.getByRole('dialog')
  await expect(dialog.getByLabel('Name', { exact: true })).toBeFocused()
  // Nothing typed: Escape closes without a word.
  await page.keyboard.press('Escape')
  await expect(dialog).toBeHidden()
  await expect(page).toHaveURL(/\/sources$/)

  await page.getByRole('button', { name: 'Add source' }).click()
  await page.getByRole('button', { name: /SQL/ }).first().click()
  await dialog.getByLabel('Name', { exact: true }).fill('Orders')
  await dialog.getByLabel('Password').fill('a-secret-of-orders')
  await page.keyboard.press('Escape')
  await expect(dialog.getByRole('alert')).toContainText('not saved')
  await page.keyboard.press('Escape')
  await expect(dialog.getByLabel('Name', { exact: true })).toHaveValue('Orders')
  await expect.poll(() => page.evaluate(() => JSON.stringify(localStorage))).toContain('Orders')
  expect(await page.evaluate(() => JSON.stringify(localStorage))).not.toContain('a-secret-of-orders')

  await page.reload()
  await page.getByRole('button', { name: /SQL/ }).first().click()
  await expect(dialog.getByLabel('Name', { exact: true })).toHaveValue('Orders')
  await expect(dialog.getByRole('note')).toContainText('did not save it')
  await dialog.getByLabel('Name', { exact: true }).fill('Orders again')
  await page.keyboard.press('Escape')
  await dialog.getByRole('button', { name: 'Throw it away' }).click()
  await expect(dialog).toBeHidden()
  await page.getByRole('button', { name: 'Add source' }).click()
  await page.getByRole('button', { name: /SQL/ }).first().click()
  await expect(dialog.getByLabel('Name', { exact: true })).toHaveValue('')
})
