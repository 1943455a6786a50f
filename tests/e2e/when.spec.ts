import { draft } from './draft'
import { barriersOfNote, expect, goLive, ledger, logIn, test } from './support'

test('a publication on a condition: what is wrong is said beside it, and it goes live when it is right', async ({ page }) => {
  const d = await draft('hot-zones')
  try {
    await logIn(page)
    await page.goto(`/publications?id=${d.id}&section=when`)
    const when = page.getByRole('region', { name: 'When' })
    await when.getByRole('button', { name: 'On a condition', exact: true }).click()
    await when.getByRole('textbox', { name: 'Condition' }).click()
    await page.keyboard.type('temprature > 1.0')
    await expect(when).toContainText('temprature is not known')
    await expect(page.getByRole('button', { name: 'Go live' })).toBeDisabled()
    await page.keyboard.press('Control+a')
    await page.keyboard.type('temperature > 1.0')
    await page.keyboard.press('Escape')
    await when.getByLabel('Holds for').fill('0,5')
    await when.getByRole('button', { name: 'At each change while it holds' }).click()
    await when.getByLabel('At most every').fill('30')
    await when.getByLabel('At least every').fill('5')
    await expect(when).toContainText('Not more often than at most')
    await when.getByLabel('At least every').fill('60')
    // What follows moves up when that is no more to be said.
    await expect(when).not.toContainText('Not more often than at most')
    await when.getByLabel('also when it begins to run').check()
    await expect(when).toContainText('on change while temperature > 1.0 holds for 0.5 s')
    await expect(when).toContainText('at most every 30 s, at least every 1 min, at first too')
    await goLive(page)
    await expect(page.locator('[data-state="live"]')).toContainText('version 1')
    const { trigger, pace } = await d.stored()
    expect([trigger, pace]).toEqual([
      { kind: 'when', condition: 'temperature > 1.0', holdS: 0.5, on: 'while' },
      { mostS: 30, leastS: 60, first: true },
    ])
    await expect(page.getByText('Confirmed by witness')).toBeVisible()
  } finally {
    await d.end()
  }
})

test('a publication by schedule shows its next times; one by hand speaks when somebody asks', async ({ page }) => {
  const d = await draft('by-hand')
  try {
    await logIn(page)
    await page.goto(`/publications?id=${d.id}&section=when`)
    const when = page.getByRole('region', { name: 'When' })
    await when.getByRole('button', { name: 'On a schedule', exact: true }).click()
    await when.getByLabel('Time zone').fill('Europe/Berlin')
    await when.getByLabel('Schedule').fill('0 25 * * *')
    await expect(when.getByRole('alert')).toContainText('hour')
    await expect(page.getByRole('button', { name: 'Go live' })).toBeDisabled()
    await when.getByLabel('Schedule').fill('30 2 * * MON')
    await expect(when.getByRole('list', { name: 'Next times' }).getByRole('listitem')).toHaveCount(5)
    await when.getByRole('button', { name: 'By hand', exact: true }).click()
    await goLive(page)
    await expect(page.locator('[data-state="live"]')).toContainText('version 1')
    await page.getByRole('button', { name: 'Send once' }).click()
    await expect(page.getByText('12 messages went')).toBeVisible()
    expect(await barriersOfNote(page)).toEqual([])
    const line = async () => (await ledger()).find((l) => l.publication === 'by-hand')
    await expect.poll(async () => (await line())?.counts.arrived).toBe(12)
    expect((await line())?.counts.produced).toBe(12)
  } finally {
    await d.end()
  }
})
