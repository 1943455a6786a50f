import { api, expect, goLive, logIn, pages, sums, test } from './support'

test('everything is reached by keyboard: letters, the finder, the filter', async ({ page }) => {
  await logIn(page)
  await page.goto('/proof')
  await expect(page.locator('[data-figure="tags"]')).not.toHaveText('...')
  await page.keyboard.press('g')
  await page.keyboard.press('t')
  await expect(page).toHaveURL(/\/tags/)
  await expect(page.getByRole('grid', { name: 'Tags' })).toBeVisible()
  await page.keyboard.press('/')
  await page.keyboard.type('zone 7/temp')
  await expect(page.getByRole('grid', { name: 'Tags' })).toHaveAttribute('aria-rowcount', '1')
  await page.keyboard.press('Escape')
  await page.keyboard.press('Control+k')
  await page.keyboard.type('zone 7 gas')
  await expect(page.getByRole('option', { name: /Zone 7\/gas flow/ })).toBeVisible()
  await page.keyboard.press('Enter')
  await expect(page.getByRole('heading', { name: 'Zone 7/gas flow' })).toBeVisible()
})

test('who filters tags before all of them are there goes on typing', async ({ page }) => {
  await logIn(page)
  let letGo = () => {}
  const held = new Promise<void>((done) => {
    letGo = done
  })
  // All tags come late; the first by their names are there.
  await page.route(/\/api\/tags$/, (route) => held.then(() => route.continue()))
  await page.goto('/tags')
  await expect(page.getByRole('grid', { name: 'Tags' })).toBeVisible()
  await page.keyboard.press('/')
  await page.keyboard.type('zone 7/temp', { delay: 40 })
  await expect(page.getByLabel('filter names, units, addresses')).toHaveValue('zone 7/temp')
  letGo()
  await expect(page.getByRole('grid', { name: 'Tags' })).toHaveAttribute('aria-rowcount', '1')
})

test('Enter in the finder means what was typed, also before it is found', async ({ page }) => {
  await logIn(page)
  await page.goto('/sources')
  let letGo = () => {}
  const held = new Promise<void>((done) => {
    letGo = done
  })
  await expect(page.locator('[data-figure="sources"]')).not.toHaveText('...')
  await page.route(/api\/find.*temperature/, (route) => held.then(() => route.continue()))
  await page.keyboard.press('Control+k')
  await page.keyboard.type('zone 6')
  await expect(page.getByRole('option', { name: /Zone 6/ }).first()).toBeVisible()
  await page.keyboard.type(' temperature')
  await page.keyboard.press('Enter')
  // What stood there was found for a part of the text: it is not taken.
  await expect(page.getByRole('dialog')).toBeVisible()
  letGo()
  await expect(page.getByRole('heading', { name: 'Zone 6/temperature' })).toBeVisible()
  await expect(page).toHaveURL(/\/tags\?tag=/)
  // A command that stands below what is found is taken where nothing else is called so.
  await page.keyboard.press('Control+k')
  await page.keyboard.type('dark theme')
  await page.keyboard.press('Enter')
  await expect(page.locator('html')).toHaveAttribute('data-theme', 'dark')
  // What is chosen by arrows is taken at once.
  await page.unroute(/api\/find.*temperature/)
  await page.keyboard.press('Control+k')
  await page.keyboard.type('zone 6')
  await expect(page.getByRole('option', { name: /Zone 6\/temperature/ })).toBeVisible()
  await expect(page.getByRole('option', { selected: true })).toHaveCount(1)
  await page.keyboard.press('ArrowDown')
  const name = await page.getByRole('option', { selected: true }).locator('span').first().textContent()
  await page.keyboard.press('Enter')
  await expect(page.getByRole('dialog')).toHaveCount(0)
  await expect(page.getByRole('main').or(page.getByRole('complementary')).getByText(name!.trim(), { exact: true }).first()).toBeVisible()
})

test('renaming a tag breaks nothing that uses it, and can be undone', async ({ page }) => {
  await logIn(page)
  const tags = await api<{ id: string; name: string }[]>('GET', '/api/tags')
  const tag = tags.find((t) => t.name === 'Zone 5/temperature')!
  await page.goto(`/tags?tag=${tag.id}`)
  await expect(page.getByRole('link', { name: 'Kiln zones, each change' })).toBeVisible()
  await page.locator('[data-word=name]').click()
  await page.getByRole('textbox', { name: 'Name', exact: true }).fill('Zone 6/temperature')
  await page.getByRole('button', { name: 'Save' }).click()
  await expect(page.getByText('Zone 6/temperature exists already')).toBeVisible()
  await page.getByRole('textbox', { name: 'Name', exact: true }).fill('Ofen 5/T')
  await page.getByRole('button', { name: 'Save' }).click()
  await expect(page.getByRole('heading', { name: 'Ofen 5/T' })).toBeVisible()
  await expect(page.getByRole('link', { name: /Zone 5 · Temperature/ })).toBeVisible()
  const before = await sums()
  await expect.poll(async () => (await sums()).arrived, { timeout: 90_000 }).toBeGreaterThan(before.arrived)
  await page.getByRole('button', { name: 'Undo', exact: true }).first().click()
  await expect(page.getByRole('heading', { name: 'Zone 5/temperature' })).toBeVisible()
})

test('a tag in use is not removed, and the answer says what uses it', async ({ page }) => {
  await logIn(page)
  await page.goto('/tags')
  await page.getByLabel('filter names, units, addresses').fill('zone 1/burner')
  await page.getByRole('row', { name: /Zone 1\/burner/ }).click()
  await page.getByRole('button', { name: 'Remove' }).click()
  await expect(page.getByText('Zone 1/burner fills burner of Zone 1')).toBeVisible()
})

test('an edit does not change what is live until it goes live again', async ({ page }) => {
  await logIn(page)
  await page.goto('/publications')
  await page.getByRole('button', { name: /Kiln, every 10 s/ }).click()
  await page.getByRole('region', { name: 'Address' }).getByRole('button').first().click()
  await page.getByLabel('Topic', { exact: true }).fill('{enterprise}/{nonsense}')
  await expect(page.getByText('{nonsense} is not known').first()).toBeVisible()
  await expect(page.getByRole('button', { name: 'Go live' })).toBeDisabled()
  await page.getByLabel('Topic', { exact: true }).fill('{enterprise}/{site}/kiln')
  await expect(page.getByText('varnmoor/lower-pit/kiln').first()).toBeVisible()
  await page.getByRole('button', { name: 'Save', exact: true }).click()
  await expect(page.getByText('edits not live')).toBeVisible()
  // What is live is what was frozen: the message that goes out now has the old topic.
  const peek = page.getByRole('complementary', { name: 'Peek' })
  await expect(peek.getByText('varnmoor/lower-pit/firing/tunnel-kiln-1/state')).toBeVisible()
  await goLive(page)
  await expect(page.locator('[data-state="live"]')).toContainText('version 2')
  await expect(page.getByText('edits not live')).toBeHidden()
  await expect(peek.getByText('varnmoor/lower-pit/kiln', { exact: true })).toBeVisible()
  await expect(peek.getByText('Confirmed by witness')).toBeVisible()
})

test('the theme is kept', async ({ page }) => {
  await logIn(page)
  await page.goto('/')
  await page.getByRole('button', { name: /Ines Rook/ }).click()
  await page.getByRole('button', { name: 'dark' }).click()
  await page.goto('/equipment/classes')
  await expect(page.locator('html')).toHaveAttribute('data-theme', 'dark')
})

test('every page opens without a fault', async ({ page }) => {
  await logIn(page, 'administrator')
  for (const path of pages) {
    await page.goto(path)
    await expect(page.locator('[data-figure="sources"]')).not.toHaveText('...')
    await expect(page.getByRole('status', { name: 'Loading' })).toHaveCount(0)
    await expect(page.getByRole('alert')).toHaveCount(0)
  }
})

test('a class gets its members, and a refused one says which field', async ({ page }) => {
  await logIn(page)
  await page.goto('/equipment/classes')
  await page.getByRole('button', { name: 'New class' }).click()
  await page.getByLabel('Name', { exact: true }).fill('Kiln Zone')
  await page.getByRole('button', { name: 'Member', exact: true }).click()
  await page.getByLabel('Member', { exact: true }).fill('Belt speed')
  await expect(page.getByLabel('Name in payloads')).toHaveValue('beltSpeed')
  await page.getByRole('button', { name: 'Add class' }).click()
  await expect(page.getByText('Another class has this name')).toBeVisible()
  await page.getByLabel('Name', { exact: true }).fill('Box Feeder')
  await page.getByRole('button', { name: 'Add class' }).click()
  await expect(page.getByRole('button', { name: /Box Feeder/ })).toBeVisible()
})

test('50,000 tags are added, listed, filtered and walked through', async ({ page }) => {
  const source = await api<{ id: string }>('POST', '/api/sources', {
    name: 'Large',
    kind: 'opcua',
    enabled: false,
    settings: { endpoint: 'opc.tcp://127.0.0.1:9/x', mode: 'None', policy: 'None', login: 'anonymous', rateMs: 500, retryMs: 1000 },
  })
  const tag = (i: number) => ({
    name: `Large/Line ${Math.floor(i / 1000)}/point ${i}`,
    sourceId: source.id,
    address: `ns=2;i=${i}`,
    dataType: 'number',
  })
  for (let from = 0; from < 50_000; from += 25_000) await api('POST', '/api/tags', { tags: Array.from({ length: 25_000 }, (_, i) => tag(from + i)) })
  await logIn(page)
  await page.goto('/tags')
  const grid = page.getByRole('grid', { name: 'Tags' })
  await expect.poll(async () => Number(await grid.getAttribute('aria-rowcount'))).toBeGreaterThan(50_000)
  await page.getByLabel('filter names, units, addresses').fill('line 49')
  await expect(grid).toHaveAttribute('aria-rowcount', '1000')
  await page.getByRole('row', { name: /point 49000/ }).click()
  await page.keyboard.press('End')
  await expect(page.getByRole('row', { name: /point 49999/ })).toBeVisible()
  await page.keyboard.press('Control+a')
  await expect(page.getByText('1,000 chosen')).toBeVisible()
  const all = await api<{ id: string; sourceId: string }[]>('GET', '/api/tags')
  await api('POST', '/api/tags/remove', { ids: all.filter((t) => t.sourceId === source.id).map((t) => t.id) })
  await api('DELETE', `/api/sources/${source.id}`)
})
