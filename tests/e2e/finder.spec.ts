import { expect, logIn, test } from './support'

test('the finder: what is called just so comes first, topics too, and it goes there without a new document', async ({ page }) => {
  await logIn(page, 'viewer')
  await expect(page.locator('[data-sentence]')).toBeVisible()
  await page.evaluate(() => Object.assign(window, { stayed: true }))
  await page.keyboard.press('Control+k')
  const input = page.getByPlaceholder(/Tag, equipment/)
  await input.fill('compressor 1/pressure')
  const first = page.getByRole('option').first()
  await expect(first).toContainText('Compressor 1/pressure')
  await expect(first).toContainText('tag')
  await page.keyboard.press('Enter')
  await expect(page).toHaveURL(/\/tags\?tag=/)
  await expect(input).toBeHidden()
  await expect(page.getByRole('heading', { name: 'Compressor 1/pressure' })).toBeVisible()

  await page.keyboard.press('Control+k')
  await input.fill('zone-5/state')
  await page
    .getByRole('option', { name: /zone-5\/state/ })
    .first()
    .click()
  await expect(page).toHaveURL(/\/publications\?.*section=address/)
  expect(await page.evaluate(() => 'stayed' in window)).toBe(true)
})

test('a question mark lists the keys', async ({ page }) => {
  await logIn(page, 'viewer')
  await expect(page.locator('[data-sentence]')).toBeVisible()
  await page.keyboard.press('?')
  await expect(page.getByRole('dialog', { name: 'Keys' })).toContainText('find anything')
  await page.keyboard.press('Escape')
  await expect(page.getByRole('dialog')).toBeHidden()
})

test('a credential is added inside the form of a destination, and stands in its field', async ({ page }) => {
  await logIn(page, 'administrator')
  await page.goto('/destinations?add')
  const form = page.getByRole('form', { name: 'Destination' })
  await form.getByLabel('Name', { exact: true }).fill('Works cloud')
  await form.getByRole('button', { name: 'Add a certificate or log-in' }).first().click()
  const credential = page.getByRole('dialog', { name: 'Add a credential' })
  await credential
    .getByRole('radio', { name: 'User and password' })
    .or(credential.getByRole('button', { name: 'User and password' }))
    .first()
    .click()
  await credential.getByLabel('Name', { exact: true }).fill('Works cloud sender')
  await credential.getByLabel('User', { exact: true }).fill('sender')
  await credential.getByLabel('Password', { exact: true }).fill('clay-of-the-cloud-7')
  await credential.getByLabel(/Meant for/).fill('mqtts://cloud.example:8883')
  await credential.getByRole('button', { name: 'Save credential' }).click()
  await expect(credential).toBeHidden()
  await expect(form.getByLabel('Certificate or log-in', { exact: true }).locator('option:checked')).toHaveText('Works cloud sender')
  // The form is as it was, and nothing of it was sent.
  await expect(form.getByLabel('Name', { exact: true })).toHaveValue('Works cloud')
})
