import { readFileSync } from 'node:fs'
import { join } from 'node:path'
import type { Page } from '@playwright/test'
import { expect, home, logIn, test } from './support'

const line = (page: Page) => page.evaluate(() => document.documentElement.dataset.line)
const figure = (page: Page, station: string) => page.locator(`[data-figure="${station}"]`)
const enginePid = () => Number(readFileSync(join(home, 'logs', 'engine.pid'), 'utf8'))

test('twelve tabs at once: all are live, none keeps another from its answers, and a log-out in one ends all', async ({ page, context }) => {
  test.setTimeout(720_000)
  await logIn(page)
  await page.goto('/')
  const tabs = [page]
  for (const path of [
    '/tags',
    '/proof',
    '/sources',
    '/publications',
    '/destinations',
    '/equipment',
    '/tags',
    '/proof',
    '/tags',
    '/proof/events',
    '/tags',
  ]) {
    const tab = await context.newPage()
    await tab.goto(path)
    tabs.push(tab)
  }
  for (const tab of tabs) await expect.poll(() => line(tab), { timeout: 90_000 }).toBe('on')
  for (const tab of tabs) await expect(figure(tab, 'tags')).not.toHaveText('...')
  for (const tab of tabs)
    expect(
      await tab.evaluate(async () => {
        const began = performance.now()
        const { status } = await fetch('/api/session')
        return status === 200 ? performance.now() - began : Number.POSITIVE_INFINITY
      }),
    ).toBeLessThan(5000)
  // The table of the last one moves.
  const ages = () => tabs.at(-1)!.locator('[data-live]').allTextContents()
  const before = await ages()
  await expect.poll(async () => (await ages()).join() !== before.join(), { timeout: 60_000 }).toBe(true)
  await page.getByRole('button', { name: /Ines/ }).click()
  await page.getByRole('button', { name: 'Log out' }).click()
  for (const tab of tabs) await expect(tab).toHaveURL(/\/login/, { timeout: 60_000 })
  for (const tab of tabs.slice(1)) await tab.close()
})

test('an engine that says nothing: within seconds values are drawn as old, it is said, and all comes back by itself', async ({ page }) => {
  await logIn(page, 'viewer')
  await page.goto('/tags')
  await expect.poll(() => line(page)).toBe('on')
  const pid = enginePid()
  process.kill(pid, 'SIGSTOP')
  try {
    const began = Date.now()
    await expect.poll(() => line(page), { timeout: 30_000, intervals: [100] }).toBe('silent')
    expect(Date.now() - began).toBeLessThan(7000)
    await expect(page.getByRole('status').filter({ hasText: 'Nothing is heard from Embrik' })).toBeVisible()
    const look = await page
      .locator('[data-live]')
      .first()
      .evaluate((e) => getComputedStyle(e).fontStyle)
    expect(look).toBe('italic')
  } finally {
    process.kill(pid, 'SIGCONT')
  }
  await expect.poll(() => line(page), { timeout: 60_000 }).toBe('on')
  await expect(page.getByRole('status').filter({ hasText: 'Nothing is heard' })).toBeHidden()
})

test('the register bench and what is browsed are drawn as old while the engine says nothing, and go on by themselves', async ({ page }) => {
  await logIn(page)
  await page.goto('/sources/registers')
  const state = () => page.locator('[data-look]').getAttribute('data-look')
  await expect.poll(state).toBe('fine')
  const browser = await page.context().newPage()
  await browser.goto('/sources/browse')
  await browser
    .getByRole('tree', { name: 'Nodes' })
    .getByRole('button', { name: /^Open / })
    .first()
    .click()
  await browser.getByRole('tree', { name: 'Nodes' }).getByRole('checkbox', { disabled: false }).first().check()
  const values = browser.locator('[data-watched]')
  await expect(values).toHaveAttribute('data-watched', 'live')
  const pid = enginePid()
  process.kill(pid, 'SIGSTOP')
  try {
    // The register bench stands behind another page: a page that nobody sees asks for nothing.
    await expect(values).toHaveAttribute('data-watched', 'old')
    await page.bringToFront()
    await expect.poll(state).not.toBe('fine')
  } finally {
    process.kill(pid, 'SIGCONT')
  }
  await expect.poll(state, { timeout: 90_000 }).toBe('fine')
  await browser.bringToFront()
  await expect(values).toHaveAttribute('data-watched', 'live', { timeout: 90_000 })
})

test('the clock of the computer is an hour wrong: ages and live pictures go by the clock of the server', async ({ page }) => {
  await page.addInitScript(() => {
    const real = Date.now.bind(Date)
    Date.now = () => real() + 3_600_000
  })
  await logIn(page, 'viewer')
  await page.goto('/proof')
  await expect(page.locator('[data-brick="confirmed"]').first()).toBeVisible()
  await page.goto('/sources')
  const last = page.getByRole('grid', { name: 'Sources' }).locator('tbody tr').first().locator('td').last()
  await expect(last).toHaveText(/^\d+(\.\d)? s/)
})

test('what is chosen and filtered stands in the address, and the shell stays while stations change', async ({ page, context }) => {
  await logIn(page, 'viewer')
  await page.goto('/tags')
  await page.evaluate(() => Object.assign(window, { stayed: true }))
  await page.locator('[data-filter]').fill('zone')
  await expect(page).toHaveURL(/\/tags\?q=zone/)
  const row = page.getByRole('row', { name: /zone/i }).nth(2)
  const name = await row.locator('[title*="/"]').first().getAttribute('title')
  await row.click()
  await expect(page).toHaveURL(/tag=/)
  const address = page.url()

  // Another station, a page of it, and Back: no new document, and what was looked at is there again.
  await page
    .getByRole('navigation', { name: 'Course' })
    .getByRole('link', { name: /Equipment/ })
    .click()
  await expect(page).toHaveTitle('Equipment - Embrik')
  await page.getByRole('link', { name: 'Coverage' }).click()
  await expect(page).toHaveURL(/\/equipment\/coverage/)
  await page.goBack()
  await page.goBack()
  await expect(page).toHaveURL(address)
  await expect(page.locator('[data-filter]')).toHaveValue('zone')
  expect(await page.evaluate(() => 'stayed' in window)).toBe(true)

  // A colleague, and a reload.
  for (const open of [async () => page.reload().then(() => page), async () => context.newPage()]) {
    const other = await open()
    if (other !== page) await other.goto(address)
    await expect(other.locator('[data-filter]')).toHaveValue('zone')
    await expect(other.getByRole('heading', { name: name!.split('\n')[0]! })).toBeVisible()
  }
})

test('a brick, its width and its line stand in the address; a link to an old brick shows the time in which it lies', async ({ page }) => {
  await logIn(page, 'viewer')
  await page.goto('/proof')
  await page
    .getByRole('radio', { name: '1 min' })
    .or(page.getByRole('button', { name: '1 min' }))
    .first()
    .click()
  await expect(page).toHaveURL(/slice=60000/)
  await page.locator('[data-brick="confirmed"]').last().click()
  await expect(page).toHaveURL(/line=\d+/)
  await expect(page).toHaveURL(/brick=/)
  const address = page.url()
  await page.goto(address)
  await expect(page.getByText('What happened around it')).toBeVisible()
  const old = new URL(address)
  old.searchParams.set('brick', new Date(Date.now() - 86_400_000 - (Date.now() % 60_000)).toISOString())
  await page.goto(old.href)
  await expect(page).toHaveURL(/until=/)
  await expect(page.getByRole('button', { name: 'Back to live' })).toBeVisible()
})

test('an address that leads nowhere says so and leads on', async ({ page }) => {
  await logIn(page, 'viewer')
  expect((await page.goto('/tags/none/of/these'))!.status()).toBe(404)
  await expect(page.getByText('There is no such page')).toBeVisible()
  await page.getByRole('link', { name: 'Go to the wall' }).click()
  await expect(page).toHaveURL(/\/proof/)
})
