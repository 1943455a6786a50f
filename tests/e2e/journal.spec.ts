import type { JournalPage } from '~/contract/journal'
import { draft } from './draft'
import { api, barriers, expect, goLive, logIn, test } from './support'

test('any message of the last hours opens with its way, from the destination, the wall and by its address', async ({ page }) => {
  await logIn(page, 'viewer')
  await page.goto('/destinations')
  await page.getByRole('row', { name: /Site broker/ }).click()
  await page.getByRole('complementary', { name: 'Peek' }).getByRole('button', { name: 'Open its journal' }).click()
  await expect(page).toHaveURL(/\/proof\/journal\?to=/)
  const list = page.getByRole('grid', { name: 'Messages' })
  const confirmed = list.getByRole('row', { name: /confirmed .*zone-(\d|1[0-2])\/state/ })
  // The newest may be on its way; further zones are those of other tests.
  await expect(async () => {
    await page.getByRole('button', { name: 'Look again' }).click()
    await expect(confirmed.first()).toBeVisible({ timeout: 2000 })
  }).toPass()
  await confirmed.first().click()
  const peek = page.getByRole('complementary', { name: 'Peek' })
  const way = peek.getByRole('list', { name: 'Its way' })
  await expect(way.getByRole('listitem')).toHaveCount(6)
  for (const hop of ['Read at the device', 'Produced', 'Stored in the outbox', 'Sent', 'Acknowledged', 'Seen by the witness'])
    await expect(way.getByRole('listitem').filter({ hasText: hop })).toContainText(/\d\d:\d\d:\d\d\.\d{3}/)
  await expect(peek).toContainText('"temperature"')
  // From the value at the far end back to where its device has it.
  await peek.getByRole('button', { name: 'Back to the device' }).click()
  const values = peek.getByRole('region', { name: /^Values of Zone \d+$/ })
  await expect(values.getByRole('link', { name: /Zone \d+\/temperature$/ })).toBeVisible()
  await expect(values).toContainText('Kiln controller')
  await expect(values).toContainText(/ns=\d+;/)
  expect(await barriers(page)).toEqual([])

  const title = await peek.getByRole('heading', { level: 2 }).textContent()
  await page.reload()
  await expect(peek.getByRole('heading', { level: 2 })).toHaveText(title!)
  await page.keyboard.press('Tab')
  await page.getByRole('searchbox', { name: 'topic contains' }).fill('zone-7/')
  await expect(list.getByRole('row', { name: /zone-7/ }).first()).toBeVisible()
  await expect(list.getByRole('row', { name: /zone-8/ })).toHaveCount(0)
  await page.getByRole('searchbox', { name: 'topic contains' }).fill('nothing like it')
  await expect(page.getByText('Nothing found')).toBeVisible()
  await page.getByRole('searchbox', { name: 'topic contains' }).fill('')
  const saved = page.waitForEvent('download')
  await page.getByRole('button', { name: 'Export' }).click()
  // Stopped when some have come, if it is not ready by then: none would be no file.
  const some = page.getByRole('button', { name: /^Stop at [1-9]/ })
  await expect(some.or(page.getByText(/messages? exported$/)).first()).toBeVisible()
  await some.click({ timeout: 2000 }).catch(() => undefined)
  expect((await saved).suggestedFilename()).toBe('journal.ndjson')

  await page.goto('/proof')
  await page.getByRole('link', { name: 'its journal' }).click()
  await expect(page).toHaveURL(/\/proof\/journal\?to=.*&of=/)
  await expect(list.getByRole('row').nth(2)).toBeVisible()
})

test('a value is followed from its tag to the message in which it went out, and what became of that', async ({ page }) => {
  const tags = await api<{ id: string; name: string }[]>('GET', '/api/tags')
  const tag = tags.find((t) => /Zone 7\/temperature$/.test(t.name))!
  await logIn(page, 'viewer')
  await page.goto(`/tags?tag=${tag.id}`)
  const peek = page.getByRole('complementary', { name: 'Peek' })
  await peek.getByRole('button', { name: 'Follow its value' }).click()
  const went = peek.getByRole('region', { name: 'Where its value went' })
  const fate = went.getByRole('listitem').filter({ hasText: /Kiln zones, each change, no\. \d+/ })
  // The present value may be on its way.
  await expect(async () => {
    await went.getByRole('button', { name: 'Look again' }).click()
    await expect(fate).toContainText('confirmed', { timeout: 2000 })
  }).toPass()
  await expect(fate).toContainText(/as .* to Site broker, made \d\d:\d\d:\d\d\.\d{3}, .* after; seen there .* later/)
  expect(await barriers(page)).toEqual([])
  // Nothing went before there was anything.
  await went.getByLabel('Its value of').fill('2020-01-01T00:00:00')
  await expect(went).toContainText('no message carried it within an hour')
  await page.reload()
  await peek.getByRole('button', { name: 'Follow its value' }).click()
  await expect(async () => {
    await went.getByRole('button', { name: 'Look again' }).click()
    await expect(fate).toBeVisible({ timeout: 2000 })
  }).toPass()
  await fate.getByRole('link').click()
  await expect(page).toHaveURL(/\/proof\/journal\?.*message=/)
  await expect(peek.getByRole('list', { name: 'Its way' })).toBeVisible()
  await expect(peek).toContainText('"temperature"')
})

test('what was sent goes once more through a publication as it is edited, and nothing goes out', async ({ page }) => {
  const d = await draft('replayed')
  try {
    await logIn(page)
    await page.goto(`/publications?id=${d.id}`)
    await goLive(page)
    await expect(page.locator('[data-state="live"]')).toContainText('version 1')
    const count = async () => (await api<JournalPage>('GET', `/api/destinations/${d.destinationId}/journal?publicationId=${d.id}`)).messages.length
    await expect.poll(count, { timeout: 60_000 }).toBeGreaterThan(20)
    await page.getByRole('button', { name: 'Replay it' }).click()
    const dialog = page.getByRole('dialog', { name: /^Replay through replayed/ })
    await dialog.getByRole('button', { name: 'last 10 min' }).click()
    await dialog.getByRole('button', { name: 'Replay', exact: true }).click()
    await expect(dialog).toContainText(/All \d+ messages would have been the same/)
    expect(await barriers(page)).toEqual([])
    await page.keyboard.press('Escape')

    await page.goto(`/publications?id=${d.id}&section=steps`)
    await page.getByRole('button', { name: 'Add a step' }).click()
    await page.getByRole('menuitem', { name: /^Drop if/ }).click()
    await page.getByRole('textbox', { name: 'Condition' }).click()
    await page.keyboard.type('setpoint > -1000.0')
    await page.keyboard.press('Escape')
    await page.getByRole('button', { name: 'Replay it' }).click()
    await dialog.getByRole('button', { name: 'last 10 min' }).click()
    await dialog.getByRole('button', { name: 'Replay', exact: true }).click()
    await expect(dialog).toContainText(/Of \d+ messages (\d+ would have been the same, )?\d+ would not have been sent/)
    await expect(
      dialog
        .getByRole('table', { name: 'Differences' })
        .getByRole('row', { name: /not sent/ })
        .first(),
    ).toBeVisible()
    await expect(dialog.getByRole('table', { name: 'Sums' })).toContainText('-100 %')
    expect((await d.versions()).length).toBe(1)
  } finally {
    await d.end()
  }
})
