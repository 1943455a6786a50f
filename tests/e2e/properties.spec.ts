import type { Page } from '@playwright/test'
import { api, expect, logIn, test } from './support'

interface Stored {
  id: string
  name: string
  unit: string
  description: string
  deadband: { kind: string; size: number } | null
  version: number
}
const tagOf = async (name: string) => (await api<Stored[]>('GET', '/api/tags')).find((t) => t.name === name)!
const word = (page: Page, key: string) => page.locator(`[data-word~="${key}"]`)
const properties = (page: Page) => page.locator('[data-sentences]')

test('a property is a word in a sentence: opened by keyboard, its effect and the outside shown, saved and taken back', async ({ page }) => {
  const tag = await tagOf('Zone 5/temperature')
  await logIn(page)
  await page.goto(`/tags?tag=${tag.id}`)
  await expect(properties(page)).toContainText('A change counts beyond 0.5 °C.')
  await expect(properties(page)).toContainText(/Of \d+ readings in ten minutes \(one every 5 s\) \d+ counts?/, { timeout: 90_000 })
  await word(page, 'deadband').focus()
  await page.keyboard.press('Enter')
  await expect(page.getByLabel('Deadband', { exact: true })).toBeFocused()
  // What is wrong is told beside it, and not saved by Enter.
  await page.keyboard.type('wide')
  await expect(properties(page)).toContainText('wide is no deadband')
  await page.keyboard.press('Enter')
  await expect(page.getByLabel('Deadband', { exact: true })).toBeVisible()
  // Escape leaves it as it is stored, and the word has the focus again.
  await page.keyboard.press('Escape')
  await expect(properties(page)).toContainText('A change counts beyond 0.5 °C.')
  await expect(word(page, 'deadband')).toBeFocused()
  await page.keyboard.press('Enter')
  // A decimal comma is read as a point.
  await page.getByLabel('Deadband', { exact: true }).fill('2,5')
  await expect(properties(page)).toContainText('What is live takes it up at its next go-live.')
  await expect(properties(page)).toContainText('1 change: deadband')
  await word(page, 'unit').click()
  await page.getByRole('combobox', { name: 'Unit' }).fill('K')
  const outside = page.getByRole('region', { name: 'What this edit changes outside' })
  await expect(outside).toContainText('temperature: as read → plus -273.15')
  await page.keyboard.press('Enter')
  await expect(properties(page)).toContainText('A change counts beyond 2.5 K.')
  await expect(outside).toHaveCount(0)
  expect(await tagOf('Zone 5/temperature')).toMatchObject({ unit: 'K', deadband: { kind: 'absolute', size: 2.5 } })
  await page.getByRole('button', { name: 'Undo', exact: true }).first().click()
  await expect(properties(page)).toContainText('A change counts beyond 0.5 °C.')
})

test('what is typed outlives leaving and reload; what somebody else saved meanwhile is held against it, the rest is kept', async ({ page }) => {
  const tag = await tagOf('Zone 4/temperature')
  await logIn(page)
  await page.goto(`/tags?tag=${tag.id}`)
  await word(page, 'description').click()
  await page.getByLabel('Description').fill('Thermocouple, changed in spring')
  await page.goto('/sources')
  await page.goto(`/tags?tag=${tag.id}`)
  await expect(properties(page)).toContainText('Thermocouple, changed in spring')
  await expect(properties(page)).toContainText('did not save it')
  await api('PATCH', `/api/tags/${tag.id}`, { description: 'Of the old kind', unit: 'K' })
  // Sources that are on their way are not sources that are gone: nothing is called wrong before they are known.
  let letGo = () => {}
  const held = new Promise<void>((done) => {
    letGo = done
  })
  await page.route('**/api/sources', (route) => held.then(() => route.continue()))
  await page.reload()
  await expect(page.getByRole('status', { name: 'Loading the properties' })).toBeVisible()
  await expect(page.getByRole('alert')).toHaveCount(0)
  letGo()
  await expect(properties(page).getByRole('alert')).toContainText('Nothing of yours is lost')
  await expect(properties(page).getByRole('row', { name: /Description/ })).toContainText('Of the old kind')
  await expect(properties(page).getByRole('button', { name: 'Save', exact: true })).toBeDisabled()
  await properties(page).getByRole('button', { name: 'Go on with mine' }).click()
  await properties(page).getByRole('button', { name: 'Save', exact: true }).click()
  await expect(properties(page)).toContainText('It is shown as it comes in K.')
  // The other's unit stayed: only what was typed is saved.
  await expect.poll(() => tagOf('Zone 4/temperature')).toMatchObject({ description: 'Thermocouple, changed in spring', unit: 'K' })
  await api('PATCH', `/api/tags/${tag.id}`, { description: tag.description, unit: tag.unit })
})

test('who may only look reads the same sentences without words that open', async ({ page }) => {
  const tag = await tagOf('Zone 5/temperature')
  await logIn(page, 'viewer')
  await page.goto(`/tags?tag=${tag.id}`)
  await expect(properties(page)).toContainText('A change counts beyond 0.5 °C.')
  await expect(properties(page).getByRole('button')).toHaveCount(0)
})
