import { writeFileSync } from 'node:fs'
import { join } from 'node:path'
import type { Locator, Page } from '@playwright/test'
import { api, expect, home, logIn, port, test } from './support'

/** Hands on a keyboard: every key pressed and every text typed is an action. */
class Hands {
  actions = 0

  constructor(readonly page: Page) {}

  async press(...keys: string[]): Promise<void> {
    for (const key of keys) {
      await this.page.keyboard.press(key)
      this.actions++
    }
  }

  async type(text: string): Promise<void> {
    await this.page.keyboard.type(text)
    this.actions++
  }

  /** Goes on by Tab until this has the focus; a way that is longer than a page is none. */
  async reach(target: Locator, key: 'Tab' | 'Shift+Tab' = 'Tab'): Promise<void> {
    await expect(target).toBeVisible()
    for (let i = 0; i < 120; i++) {
      if (await target.evaluate((e) => e === document.activeElement)) return
      await this.press(key)
    }
    throw new Error(`${target} is not reached by ${key}`)
  }

  async enter(target: Locator): Promise<void> {
    await this.reach(target)
    await this.press('Enter')
  }

  async fill(target: Locator, text: string): Promise<void> {
    await this.reach(target)
    await this.press('Control+a')
    await this.type(text)
  }
}

const counted: Record<string, number> = {}
test.afterAll(async () => {
  writeFileSync(join(home, 'actions.json'), JSON.stringify(counted, null, 2))
  // What was made here is no part of the demo.
  const named = async (path: string, name: string) => (await api<{ id: string; name: string }[]>('GET', path)).filter((x) => x.name.startsWith(name))
  for (const { id } of await named('/api/publications', 'Zone 2 by hand')) {
    await api('POST', `/api/publications/${id}/pause`)
    await api('DELETE', `/api/publications/${id}`)
  }
  const tags = await named('/api/tags', 'By hand/')
  if (tags.length > 0) await api('POST', '/api/tags/remove', { ids: tags.map((t) => t.id) })
  for (const { id } of await named('/api/sources', 'Compressor by hand')) await api('DELETE', `/api/sources/${id}`)
})

function job(name: string, work: (hands: Hands) => Promise<void>): void {
  test(`by keyboard alone: ${name}`, async ({ page }) => {
    await logIn(page)
    await page.goto('/')
    await expect(page.locator('[data-figure="sources"]')).not.toHaveText('...')
    const hands = new Hands(page)
    await work(hands)
    counted[name] = hands.actions
  })
}

job('add a source', async (hands) => {
  const { page } = hands
  await hands.press('g', 's')
  await hands.enter(page.getByRole('button', { name: 'Add source' }))
  const form = page.getByRole('dialog')
  await hands.enter(form.getByRole('button', { name: /^HTTP JSON/ }))
  await expect(form.getByLabel('Name', { exact: true })).toBeFocused()
  await hands.type('Compressor by hand')
  await hands.fill(form.getByLabel('URL'), `http://127.0.0.1:${port + 16}/status`)
  await hands.reach(form.getByLabel('Log in by'))
  await hands.type('basic')
  await hands.fill(form.getByLabel('User'), 'monitor')
  await hands.fill(form.getByLabel('Password'), 'air-reader-6')
  await hands.fill(form.getByLabel('Update rate'), '500')
  await hands.enter(form.getByRole('button', { name: 'Check the connection' }))
  await expect(form.getByText('The check passed.')).toBeVisible()
  await hands.enter(form.getByRole('button', { name: 'Add source' }))
  await expect(page.locator('[data-source="Compressor by hand"]')).toContainText('running')
})

job('browse it and add a tag', async (hands) => {
  const { page } = hands
  const source = (await api<{ id: string; name: string }[]>('GET', '/api/sources')).find((s) => s.name === 'Compressor by hand')!
  await page.goto(`/sources/browse?source=${source.id}`)
  const nodes = page.getByRole('tree', { name: 'Nodes' })
  await hands.reach(nodes)
  await expect(nodes.getByRole('treeitem', { name: 'air' })).toBeVisible()
  await hands.press('Home')
  while (!(await nodes.getByRole('treeitem', { name: 'air', exact: true }).getAttribute('aria-selected'))?.includes('true'))
    await hands.press('ArrowDown')
  await hands.press('ArrowRight')
  await expect(nodes.getByRole('treeitem', { name: 'pressure' })).toBeVisible()
  while (!(await nodes.getByRole('treeitem', { name: 'pressure' }).getAttribute('aria-selected'))?.includes('true')) await hands.press('ArrowDown')
  await hands.press('Space')
  await hands.fill(page.getByLabel('Put before names'), 'By hand/')
  await hands.reach(page.getByRole('button', { name: 'Add 1 tag' }), 'Shift+Tab')
  await hands.press('Enter')
  await expect(page.getByText('1 tag added')).toBeVisible()
})

job('look down the list for what stands out', async (hands) => {
  const { page } = hands
  await hands.press('g', 't')
  await hands.enter(page.getByRole('button', { name: /Uncertain \d/ }))
  await expect.poll(async () => Number(await page.getByRole('grid', { name: 'Tags' }).getAttribute('aria-rowcount'))).toBeLessThan(30)
  await expect(page).toHaveURL(/kind=uncertain/)
})

job('find a tag and change from when a change counts', async (hands) => {
  const { page } = hands
  await hands.press('Control+k')
  await hands.type('zone 6 temperature')
  await expect(page.getByRole('option', { name: /Zone 6\/temperature/ })).toBeVisible()
  await hands.press('Enter')
  await expect(page.getByRole('heading', { name: 'Zone 6/temperature' })).toBeVisible()
  await hands.press('F6', 'F6')
  await hands.enter(page.locator('[data-word="deadband"]'))
  await hands.press('Control+a')
  await hands.type('0,75')
  await hands.press('Enter')
  await expect(page.locator('[data-sentences]')).toContainText('A change counts beyond 0.75 °C.')
  await hands.press('Shift+F6')
  await hands.reach(page.getByRole('grid', { name: 'Tags' }))
  await hands.press('Control+z')
  await expect(page.locator('[data-sentences]')).toContainText('A change counts beyond 0.5 °C.')
})

job('see what is wrong', async (hands) => {
  const { page } = hands
  await hands.enter(page.getByRole('link', { name: 'Embrik: what is wrong' }))
  await expect(page).toHaveURL(/\/proof\/wrong/)
  await expect(page.getByRole('heading', { level: 1, name: 'What is wrong' })).toBeAttached()
})

job('follow one message on the wall', async (hands) => {
  const { page } = hands
  await hands.press('g', 'r')
  await hands.reach(page.getByRole('grid', { name: 'The wall' }))
  await hands.press('ArrowLeft', 'ArrowLeft')
  await expect(page).toHaveURL(/brick=/)
})

job('pause a publication and let it go live again', async (hands) => {
  const { page } = hands
  await hands.press('Control+k')
  await hands.type('Kiln, every 10 s')
  await expect(page.getByRole('option', { name: /Kiln, every 10 s/ })).toBeVisible()
  await hands.press('Enter')
  await hands.enter(page.getByRole('button', { name: 'Pause' }))
  await expect(page.locator('[data-state="paused"]')).toBeVisible()
  await hands.enter(page.getByRole('button', { name: 'Resume' }))
  await expect(page.locator('[data-state="live"]')).toBeVisible()
})

job('check a destination', async (hands) => {
  const { page } = hands
  await hands.press('g', 'd')
  await hands.enter(page.getByRole('button', { name: 'Edit', exact: true }))
  const form = page.getByRole('dialog')
  await hands.enter(form.getByRole('button', { name: 'Check the connection' }))
  await expect(form.locator('[data-step]').last()).toHaveAttribute('data-state', /passed|failed/, { timeout: 90_000 })
  await hands.press('Escape')
  await expect(form).toBeHidden()
})

job('publish equipment and see the first message confirmed', async (hands) => {
  const { page } = hands
  await hands.press('g', 'p')
  await hands.enter(page.getByRole('button', { name: 'New publication' }))
  await hands.fill(page.getByLabel('Name', { exact: true }), 'Zone 2 by hand')
  await hands.fill(page.getByLabel('filter equipment'), 'Zone 2')
  await hands.reach(page.getByRole('checkbox', { name: /Zone 2/ }))
  await hands.press('Space')
  await expect(page.locator('[data-payload]')).toContainText('"temperature"')
  await hands.press('Shift+F6', 'Shift+F6')
  await hands.enter(page.getByRole('button', { name: 'Go live' }))
  // Another publication writes there too: one lives with that, for a moment.
  const dialog = page.getByRole('dialog')
  await hands.reach(dialog.getByRole('checkbox', { name: /^Accept:/ }))
  await hands.press('Space')
  await hands.enter(dialog.getByRole('button', { name: 'Go live' }))
  await expect(page.locator('[data-state="live"]')).toContainText('version 1')
  await expect(page.getByText('Confirmed by witness')).toBeVisible()
})

job('listen on topics and look into a family', async (hands) => {
  const { page } = hands
  await hands.press('g', 's', 'Shift+F6', 'Shift+F6')
  await hands.enter(page.getByRole('link', { name: 'Topics' }))
  await hands.enter(page.getByRole('button', { name: 'Listen', exact: true }))
  await hands.press('F6', 'F6')
  await hands.enter(page.getByRole('button', { name: /^Open probes/ }))
  await expect(page.getByRole('table', { name: 'Leaves by topic' })).toContainText('moisture')
})

job('read registers in the notation of the manual', async (hands) => {
  const { page } = hands
  await hands.press('g', 's', 'Shift+F6', 'Shift+F6')
  await hands.enter(page.getByRole('link', { name: 'Registers' }))
  await hands.fill(page.getByLabel('From', { exact: true }), '11 30005')
  await expect(page.getByLabel('Area')).toHaveValue('input')
  await expect(page.locator('[data-look="fine"]')).toBeVisible()
})

job('copy tags with their values into a spreadsheet', async (hands) => {
  const { page } = hands
  await page.context().grantPermissions(['clipboard-read', 'clipboard-write'])
  await hands.press('g', 't')
  await expect(page.getByRole('row', { name: 'Compressor 1/pressure' })).toBeVisible()
  await hands.press('/')
  await hands.type('compressor 1')
  await expect(page.getByRole('grid', { name: 'Tags' })).toHaveAttribute('aria-rowcount', '5')
  await hands.reach(page.getByRole('grid', { name: 'Tags' }))
  await hands.press('Control+a', 'Control+c')
  await expect(page.getByText('5 tags copied')).toBeVisible()
  expect(await page.evaluate(() => navigator.clipboard.readText())).toMatch(/Compressor 1\/pressure\t[\d.]+\tbar\tgood\t/)
})

job('find the part of the guide for a page', async (hands) => {
  const { page } = hands
  await hands.press('g', 't', 'Shift+F6', 'Shift+F6')
  const guide = page.getByRole('link', { name: 'Guide to this page' })
  await hands.reach(guide)
  const opened = page.context().waitForEvent('page')
  await hands.press('Enter')
  await expect((await opened).getByRole('heading', { level: 1 })).toContainText('Tags')
})
