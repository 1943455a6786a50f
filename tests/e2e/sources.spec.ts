import type { Locator, Page } from '@playwright/test'
import { api, expect, logIn, panel, port, tellPanel, test } from './support'

test.describe.configure({ mode: 'serial' })

const put = (device: 'field' | 'compressor', faults: object) =>
  fetch(`${panel}/api/${device}/faults`, { method: 'PUT', headers: { 'content-type': 'application/json' }, body: JSON.stringify(faults) })

test.afterEach(async () => {
  await put('field', {})
  await put('compressor', {})
})

/** Opens the form of a new source of this kind. */
async function begin(page: Page, kind: RegExp, name: string): Promise<Locator> {
  await logIn(page)
  await page.goto('/sources')
  await page.getByRole('button', { name: 'Add source' }).click()
  const form = page.getByRole('dialog')
  await form.getByRole('button', { name: kind }).click()
  await form.getByLabel('Name', { exact: true }).fill(name)
  return form
}

const step = (form: Locator, key: string) => form.locator(`[data-step="${key}"]`)

async function check(form: Locator): Promise<void> {
  await form.getByRole('button', { name: /Check/ }).click()
}

/** The check fails at this step, with reason and hint. */
async function fails(form: Locator, key: string, reason: string, hint: string): Promise<void> {
  await check(form)
  await expect(step(form, key)).toHaveAttribute('data-state', 'failed')
  await expect(step(form, key)).toContainText(reason)
  await expect(step(form, key)).toContainText(hint)
}

async function add(page: Page, form: Locator, name: string, last: string): Promise<void> {
  await check(form)
  await expect(step(form, last)).toHaveAttribute('data-state', 'passed')
  await form.getByRole('button', { name: 'Add source' }).click()
  await expect(form).toBeHidden()
  await expect(page.locator(`[data-source="${name}"]`)).toContainText('running')
}

/** A good value stands in the table of tags. */
async function arrives(page: Page, tag: string, text: RegExp): Promise<void> {
  await page.goto('/tags')
  await page.getByLabel('filter names, units, addresses').fill(tag)
  const row = page.getByRole('row', { name: tag })
  await expect(row).toContainText('good')
  await expect(row).toContainText(text)
}

test('Modbus: a silent unit is told with what to do; mended, registers become a tag on the bench', async ({ page }) => {
  const form = await begin(page, /^Modbus TCP/, 'Meters anew')
  await form.getByLabel('Host').fill('127.0.0.1')
  await form.getByLabel('Port').fill('9')
  await fails(form, 'port', 'Nothing listens on port 9', 'Check the port')
  await form.getByLabel('Port').fill(String(port + 15))
  await form.getByLabel('Unit to check').fill('12')
  await put('field', { silentUnit: 12 })
  await fails(form, 'unit', 'Unit 12 does not answer within 1000 ms', 'Check the unit id')
  await put('field', {})
  await add(page, form, 'Meters anew', 'unit')

  await page.getByRole('link', { name: 'Register bench' }).click()
  await page.getByLabel('From', { exact: true }).fill('100')
  await expect(page.locator('[data-look="fine"]')).toBeVisible()
  await page.getByLabel('Its name').fill('Anew/power 1')
  await page.getByLabel('expected from').fill('100')
  await page.getByLabel('to', { exact: true }).fill('400')
  await page.locator('[data-register="100"]').getByText('40101').click()
  // The only 32-bit float within what is expected has its low word first.
  await expect(page.locator('[data-decoding="float32 CDAB"]')).toHaveAttribute('data-plausible', 'true')
  await page.locator('[data-decoding="float32 CDAB"]').click()
  // It asks before anything is added.
  await expect(page.getByRole('dialog', { name: 'Add Anew/power 1' })).toContainText('float32 CDAB')
  await page.keyboard.press('Enter')
  await expect(page.getByText('Anew/power 1 is added')).toBeVisible()
  await arrives(page, 'Anew/power 1', /1[0-9]{2}\.\d/)
})

test('the meter with the wrong word order is found by its range and mended on the register bench', async ({ page }) => {
  await logIn(page)
  await page.goto('/tags')
  await page.getByLabel('filter names, units, addresses').fill('Power Meter 2/power')
  await page.getByRole('row', { name: 'Power Meter 2/power', exact: false }).first().click()
  await page.getByRole('link', { name: 'Look at its registers' }).click()
  const now = page.locator('[data-now]')
  await expect(now).toContainText('Outside of what is expected, 0 to 400 kW')
  await expect(page.locator('[data-decoding="float32 ABCD"]')).toHaveAttribute('aria-pressed', 'true')
  await expect(page.locator('[data-decoding="float32 ABCD"]')).toHaveAttribute('data-plausible', 'false')
  const right = page.locator('[data-decoding="float32 CDAB"]')
  await expect(right).toHaveAttribute('data-plausible', 'true')
  await right.click()
  // It asks first, old and new way side by side; Escape leaves it.
  const asks = page.getByRole('dialog', { name: 'Read Power Meter 2/power otherwise' })
  await expect(asks).toContainText('float32 CDAB')
  await page.keyboard.press('Escape')
  await expect(asks).toBeHidden()
  await expect(right).toHaveAttribute('aria-pressed', 'false')
  await right.click()
  await asks.getByRole('button', { name: 'Read it so' }).click()
  await expect(right).toHaveAttribute('aria-pressed', 'true')
  await expect(now).not.toContainText('Outside of what is expected')
  await expect
    .poll(async () => {
      const power = Number(await now.locator('span').first().textContent())
      return power > 70 && power < 130
    })
    .toBe(true)
  // Undo brings the old order back, and the same click mends it again.
  await page.getByRole('button', { name: 'Undo' }).click()
  await expect(now).toContainText('Outside of what is expected')
  await right.click()
  await page.keyboard.press('Enter')
  await expect(now).not.toContainText('Outside of what is expected')
})

test('a stored source is checked as it stands; when something is changed, what the check found goes', async ({ page }) => {
  await logIn(page)
  await page.goto('/sources')
  await page.locator('[data-source="Kiln controller"]').dblclick()
  const form = page.getByRole('dialog')
  await form.getByRole('button', { name: 'Check the connection' }).click()
  await expect(form.locator('[data-step="read"]')).toHaveAttribute('data-state', 'passed')
  await expect(form.getByText('The check passed.')).toBeVisible()
  await form.getByLabel('User').fill('somebody')
  await expect(form.locator('[data-step]')).toHaveCount(0)
  await expect(form.getByText('The check passed.')).toBeHidden()
})

test('the register bench reads places in every notation, and comes back by itself when the device does', async ({ page }) => {
  await logIn(page)
  await page.goto('/sources/registers')
  const from = page.getByLabel('From', { exact: true })
  await from.fill('holding#1')
  await expect(page.getByText('holding@0, holding#1 or 40001')).toBeVisible()
  await from.fill('11 30005 float32')
  await expect(page.getByLabel('Unit id')).toHaveValue('11')
  await expect(page.getByLabel('Area')).toHaveValue('input')
  await expect(page.getByText('input@4, input#5 or 30005')).toBeVisible()
  await from.fill('4x')
  await expect(page.getByText('Write a place like holding@12')).toBeVisible()
  await from.fill('0')
  await expect(page.locator('[data-look="fine"]')).toBeVisible()
  const first = page.locator('[data-register="0"]')
  const before = await first.boundingBox()
  // A unit that nobody answers for: said at the foot, and what was read last stays where it is.
  await page.getByLabel('Area').selectOption('holding')
  await page.getByLabel('Unit id').fill('247')
  await expect(page.locator('[data-look="problem"]')).toBeVisible({ timeout: 60_000 })
  await page.getByLabel('Unit id').fill('11')
  await page.getByLabel('Area').selectOption('input')
  await expect(page.locator('[data-look="fine"]')).toBeVisible()
  expect(await first.boundingBox()).toEqual(before)
})

test('MQTT topics: a filter that may not be read is told; mended, topics are heard and become tags that keep the tree', async ({ page }) => {
  const form = await begin(page, /^MQTT topics/, 'Cells anew')
  await form.getByLabel('Host').fill('127.0.0.1')
  await form.getByLabel('Port').fill(String(port + 11))
  await form.getByLabel('TLS').uncheck()
  await expect(form.getByText('Without TLS')).toBeVisible()
  await form.getByLabel('Client id').fill('collector-anew')
  await form.getByLabel('Certificate or log-in').selectOption({ label: 'Collector at the site broker' })
  await form.getByLabel('Listen on').fill('cells/#/x')
  await expect(form.getByText('is no topic filter')).toBeVisible()
  await form.getByLabel('Listen on').fill('cells/# varnmoor/#')
  await fails(form, 'topics', 'The broker refuses to let us listen on varnmoor/#: not allowed to read there', 'that permission at the broker')
  await form.getByLabel('Listen on').fill('cells/#')
  await add(page, form, 'Cells anew', 'topics')

  await page.getByRole('link', { name: 'Listen and add tags' }).click()
  await page.getByRole('button', { name: 'Listen', exact: true }).click()
  // What is alike is one family: its levels that vary stand in one row, its values by machine and signal.
  const families = page.getByRole('table', { name: 'Families of topics' })
  const cells = families.getByRole('button', { name: /^Open cells \/ packing/ })
  await expect(cells).toContainText('stacker 1  strapper 1')
  await expect(cells).toContainText('packs  rate  rejects  state')
  await cells.focus()
  await page.keyboard.press('Enter')
  const leaves = page.getByRole('table', { name: 'Leaves by topic' })
  await expect(leaves.getByRole('row', { name: /^rate/ }).getByRole('button')).toHaveCount(2)
  // Taken whole with names shown first; what is taken outlives leaving the page.
  await families.getByLabel(/^Take all of cells/).check()
  const chosen = page.getByRole('list', { name: 'Tags to be added' })
  await expect(chosen).toContainText('cells/packing/strapper 1/state')
  await expect(page.getByRole('button', { name: 'Add 7 tags' })).toBeVisible()
  await leaves.getByRole('button', { name: /^rejects of stacker 1/ }).click()
  await expect(page.getByRole('button', { name: 'Add 6 tags' })).toBeVisible()
  await page.reload()
  await expect(page.getByRole('button', { name: 'Add 6 tags' })).toBeVisible()
  await page.getByRole('button', { name: 'Choose none' }).click()
  // The single topic lies one step deeper, and stands in the address.
  await page.getByRole('button', { name: 'Listen', exact: true }).click()
  await page.getByRole('button', { name: 'Single topics' }).click()
  await expect(page).toHaveURL(/as=single/)
  const tree = page.getByRole('tree', { name: 'Topics' })
  const branch = tree.getByRole('treeitem', { name: 'stacker 1', exact: true })
  await expect(branch).toBeVisible()
  await expect(tree.getByRole('treeitem', { name: 'rejects' })).toBeVisible()
  await branch.hover()
  await branch.getByRole('button', { name: 'Take all under stacker 1' }).click()
  await page.getByLabel('Put before names').fill('Anew/')
  await page.getByLabel('Levels left out').fill('1')
  const list = page.getByRole('list', { name: 'Tags to be added' })
  await expect(list).toContainText('Anew/packing/stacker 1/rate')
  await page.getByRole('button', { name: /^Add 4 tags$/ }).click()
  await expect(page.getByText('4 tags added')).toBeVisible()
  await arrives(page, 'Anew/packing/stacker 1/rate', /2[0-9]\.\d/)
})

test('SQL: a wrong password is told; mended, the result of the query is shown and its columns become tags', async ({ page }) => {
  const form = await begin(page, /^SQL query/, 'Orders anew')
  await form.getByLabel('Host').fill('127.0.0.1')
  await form.getByLabel('Port').fill(String(port + 2))
  await form.getByLabel('Database').fill('varnmoor_works')
  await form.getByLabel('User').fill('works_reader')
  await form.getByLabel('Password').fill('wrong')
  await form.getByLabel('Query', { exact: true }).fill('select product, drying_hours, top_temperature from works.recipe')
  await form.getByLabel('Key column').fill('product')
  await form.getByLabel('Update rate').fill('1000')
  await fails(form, 'login', 'The server refuses user works_reader or the password', 'Check both')
  await form.getByLabel('Password').fill('order-reader-7')
  await check(form)
  await expect(step(form, 'query')).toContainText('3 rows of product, drying_hours, top_temperature')
  await expect(form.locator('pre')).toContainText('"roof tile plain"')
  await add(page, form, 'Orders anew', 'query')

  await page.getByRole('link', { name: 'Browse and add tags' }).click()
  const nodes = page.getByRole('tree', { name: 'Nodes' })
  await nodes.getByRole('button', { name: 'Open paver 200' }).click()
  await nodes.getByRole('checkbox', { name: 'top_temperature' }).check()
  await page.getByRole('button', { name: 'Add 1 tag' }).click()
  await expect(page.getByText('1 tag added')).toBeVisible()
  await arrives(page, 'paver 200/top_temperature', /1120/)
})

test('HTTP JSON: a wrong password and a failing device are told; mended, leaves become tags', async ({ page }) => {
  const form = await begin(page, /^HTTP JSON/, 'Compressor anew')
  await form.getByLabel('URL').fill(`http://127.0.0.1:${port + 16}/status`)
  await form.getByLabel('Log in by').selectOption('basic')
  await form.getByLabel('User').fill('monitor')
  await form.getByLabel('Password').fill('wrong')
  await form.getByLabel('Update rate').fill('500')
  await fails(form, 'answer', 'The server answers 401', 'Check the log-in')
  await form.getByLabel('Password').fill('air-reader-6')
  await put('compressor', { failing: true })
  await fails(form, 'answer', 'The server answers 503', 'trouble of its own')
  await put('compressor', {})
  await add(page, form, 'Compressor anew', 'values')

  await page.getByRole('link', { name: 'Browse and add tags' }).click()
  const nodes = page.getByRole('tree', { name: 'Nodes' })
  await nodes.getByRole('button', { name: 'Open air' }).click()
  await nodes.getByRole('checkbox', { name: 'pressure' }).check()
  await page.getByLabel('Put before names').fill('Anew/')
  await page.getByRole('button', { name: 'Add 1 tag' }).click()
  await expect(page.getByText('1 tag added')).toBeVisible()
  await arrives(page, 'Anew/air/pressure', /[67]\.\d/)
})

test('Simulated: a damaged recording is told with its row; mended, a signal arrives and is marked as made up', async ({ page }) => {
  const form = await begin(page, /^Simulated/, 'Signals anew')
  await form.getByLabel('Recording').fill('seconds,level\n0,1\nsoon,2')
  await fails(form, 'recording', 'Row 3 of the recording: soon is no time', 'Correct the recording')
  await form.getByLabel('Recording').fill('seconds,level\n0,1\n1,2')
  await add(page, form, 'Signals anew', 'recording')
  await page.getByRole('link', { name: 'Browse and add tags' }).click()
  const nodes = page.getByRole('tree', { name: 'Nodes' })
  await nodes.getByRole('button', { name: 'Open Recording' }).click()
  await nodes.getByRole('checkbox', { name: 'level' }).check()
  await page.getByRole('button', { name: 'Add 1 tag' }).click()
  await expect(page.getByText('1 tag added')).toBeVisible()
  await arrives(page, 'Recording/level', /[12]\.000/)
  await expect(page.getByRole('row', { name: 'Recording/level' }).locator('[data-made-up]')).toBeVisible()
})

test('any tag goes on simulation and back, and says so wherever it is used', async ({ page }) => {
  await logIn(page)
  const tag = (await api<{ id: string; name: string }[]>('GET', '/api/tags')).find((t) => t.name === 'Zone 9/gas flow')!
  await page.goto(`/tags?tag=${tag.id}`)
  const peek = page.getByRole('complementary', { name: 'Peek' })
  await peek.getByRole('button', { name: 'Put on simulation' }).click()
  await peek.getByLabel('Signal').fill('square low=1')
  await expect(peek.getByText('A signal is one of')).toBeVisible()
  await peek.getByLabel('Signal').fill('walk low=500 high=600')
  await peek.getByRole('button', { name: 'Simulate it' }).click()
  await expect(peek.getByText('These values are made up')).toBeVisible()
  await expect(peek.getByText('uncertain: simulated')).toBeVisible()
  // In equipment, and in what preflight says of a publication.
  const zone = (await api<{ id: string; name: string }[]>('GET', '/api/equipment')).find((e) => e.name === 'Zone 9')!
  await page.goto(`/equipment?id=${zone.id}`)
  await expect(page.getByRole('table', { name: 'Members' }).locator('[data-made-up]')).toHaveCount(1)
  await page.goto('/publications')
  await page.getByRole('button', { name: /Kiln zones, each change/ }).click()
  await expect(page.getByText('Simulated, not measured: Zone 9 Gas flow')).toBeVisible()
  await page.goto(`/tags?tag=${tag.id}`)
  await peek.getByRole('button', { name: 'Back to the device' }).click()
  await expect(peek.getByText('These values are made up')).toBeHidden()
  await expect(peek.locator('[data-made-up]')).toHaveCount(0)
  await expect(peek.getByText('good', { exact: true })).toBeVisible()
})

test('a source is stopped, started and connected anew by itself, and is not removed while it is used', async ({ page }) => {
  await logIn(page, 'operator')
  await page.goto('/sources')
  const row = page.locator('[data-source="Compressor 1"]')
  const other = page.locator('[data-source="Dryers and meters"]')
  await expect(row).toContainText('running')
  const since = (await api<{ sources: Record<string, { since: number }> }>('GET', '/api/conditions')).sources
  await row.click()
  await page.getByRole('button', { name: 'Stop', exact: true }).click()
  await expect(row).toContainText('switched off')
  await expect(other).toContainText('running')
  await page.getByRole('button', { name: 'Start', exact: true }).click()
  await expect(row).toContainText('running')
  await page.getByRole('button', { name: 'Connect anew' }).click()
  await expect(page.getByText('Compressor 1 connects anew')).toBeVisible()
  await expect(row).toContainText('running')
  const list = await api<{ id: string; name: string }[]>('GET', '/api/sources')
  const now = (await api<{ sources: Record<string, { since: number }> }>('GET', '/api/conditions')).sources
  const idOf = (name: string) => list.find((s) => s.name === name)!.id
  expect(now[idOf('Dryers and meters')]!.since).toBe(since[idOf('Dryers and meters')]!.since)
  expect(now[idOf('Compressor 1')]!.since).toBeGreaterThan(since[idOf('Compressor 1')]!.since)
  await expect(page.getByRole('button', { name: 'Remove' })).toBeDisabled()

  await logIn(page)
  await page.goto(`/sources?source=${idOf('Kiln controller')}`)
  await page.getByRole('button', { name: 'Remove' }).click()
  const dialog = page.getByRole('dialog')
  await expect(dialog).toContainText(/\d+ tags, in \d+ equipment and \d publications/)
  await expect(dialog.getByRole('button', { name: 'Remove source' })).toBeDisabled()
})

test('a value is written to the device by who may, confirmed by reading back, and kept with who and when', async ({ page }) => {
  const tag = (await api<{ id: string; name: string }[]>('GET', '/api/tags')).find((t) => t.name === 'Dryer 2/setpoint')!
  await logIn(page, 'viewer')
  await page.goto(`/tags?tag=${tag.id}`)
  const peek = page.getByRole('complementary', { name: 'Peek' })
  await expect(peek.getByLabel('New value')).toBeDisabled()
  await logIn(page, 'operator')
  await page.goto(`/tags?tag=${tag.id}`)
  await peek.getByLabel('New value').fill('500')
  await expect(peek.getByText('From 20 to 120 °C')).toBeVisible()
  await peek.getByLabel('New value').fill('84.5')
  await peek.getByRole('button', { name: 'Write', exact: true }).click()
  await expect(peek.getByText('Write 84.50 °C to the device?')).toBeVisible()
  await peek.getByRole('button', { name: 'Write it' }).click()
  await expect(page.getByText('84.50 °C is written')).toBeVisible()
  await expect(peek.getByText('84.50', { exact: true })).toBeVisible()
  // What does not fit the steps of the device is refused by it, in words.
  await peek.getByLabel('New value').fill('84.55')
  await peek.getByLabel('New value').press('Enter')
  await peek.getByRole('button', { name: 'Write it' }).click()
  await expect(page.getByText('The device knows steps of 0.1')).toBeVisible()
  await page.goto('/proof/events')
  const events = page.getByRole('list', { name: 'Events' })
  await expect(events).toContainText('Tam Birch wrote 84.5 °C (before: 92, read back: 84.5)')
  await expect(events).toContainText('Tam Birch wanted to write 84.55 °C')
  await expect(
    api('POST', `/api/tags/${(await api<{ id: string; access: string }[]>('GET', '/api/tags')).find((t) => t.access === 'read')!.id}/write`, {
      value: 1,
    }),
  ).rejects.toThrow('read-only')
})

test('a payload that cannot be read is shown with its bytes', async ({ page }) => {
  await logIn(page, 'viewer')
  const tag = (await api<{ id: string; name: string }[]>('GET', '/api/tags')).find((t) => t.name === 'Packing/Strapper 1/rate')!
  await page.goto(`/tags?tag=${tag.id}`)
  // The strapper jams for ten seconds of every minute.
  const note = page.locator('[data-note]')
  await expect(note).toContainText('"JAM" is no number', { timeout: 240_000 })
  await expect(note.locator('pre')).toHaveText('JAM')
  await note.getByRole('button', { name: 'as bytes' }).click()
  await expect(note.locator('pre')).toHaveText('4a 41 4d')
})

test('twenty thousand nodes are browsed, searched and chosen', async ({ page }) => {
  await api('POST', '/api/sources', {
    name: 'Many rows',
    kind: 'sql',
    enabled: false,
    password: 'order-reader-7',
    settings: {
      host: '127.0.0.1',
      port: port + 2,
      database: 'varnmoor_works',
      tls: false,
      authorityId: null,
      user: 'works_reader',
      query: "select 'meter ' || g as meter, g * 1.5 as flow from generate_series(1, 10000) g",
      keyColumn: 'meter',
      timeoutMs: 10_000,
      rateMs: 60_000,
      retryMs: 1000,
    },
  })
  await logIn(page)
  await page.goto('/sources/browse')
  await page.getByLabel('Source', { exact: true }).selectOption({ label: 'Many rows' })
  const tree = page.getByRole('tree', { name: 'Nodes' })
  await expect(page.getByText('10,000 shown')).toBeVisible()
  expect(await tree.getByRole('treeitem').count()).toBeLessThan(80)
  await tree.press('End')
  await expect(tree.getByRole('treeitem', { name: 'meter 10000', exact: true })).toBeVisible()
  await page.getByLabel('filter what is open').fill('meter 99')
  await expect(page.getByText('111 shown')).toBeVisible()
  await page.getByLabel('filter what is open').fill('')
  await tree.press('Home')
  await page.getByLabel('Pattern').fill('**')
  await page.getByRole('button', { name: 'Find', exact: true }).click()
  const found = page.getByRole('region', { name: 'Found' })
  await expect(found.getByRole('status')).toContainText('of')
  await page.getByLabel('Pattern').fill('meter 5???/flow')
  await page.getByRole('button', { name: 'Find', exact: true }).click()
  await expect(found.getByRole('button', { name: 'Choose all 1,000' })).toBeVisible()
  await found.getByRole('button', { name: 'Choose all 1,000' }).click()
  await expect(page.getByRole('button', { name: 'Add 1,000 tags' })).toBeVisible()
  await page.getByRole('button', { name: 'Add 1,000 tags' }).click()
  await expect(page.getByText('1,000 tags added')).toBeVisible()
  const { id } = (await api<{ id: string; name: string }[]>('GET', '/api/sources')).find((s) => s.name === 'Many rows')!
  const all = await api<{ id: string; sourceId: string; name: string }[]>('GET', '/api/tags')
  const own = all.filter((t) => t.sourceId === id)
  expect(own.length).toBe(1000)
  expect(own[0]!.name).toBe('meter 5000/flow')
  await api('POST', '/api/tags/remove', { ids: own.map((t) => t.id) })
  await api('DELETE', `/api/sources/${id}`)
})

test('the certificate of Embrik is renewed by who may: servers must trust the new one before values come again', async ({ page }) => {
  const before = await api<{ thumbprint: string }>('GET', '/api/application')
  const kiln = (await api<{ id: string; name: string }[]>('GET', '/api/sources')).find((s) => s.name === 'Kiln controller')!
  await logIn(page, 'administrator')
  await page.goto(`/sources?source=${kiln.id}`)
  await page.locator('[data-source="Kiln controller"]').dblclick()
  const form = page.getByRole('dialog')
  await expect(form.getByText(before.thumbprint)).toBeVisible()
  await expect(form.getByRole('link', { name: 'Download' })).toHaveAttribute('href', /BEGIN%20CERTIFICATE/)
  await form.getByRole('button', { name: 'Renew', exact: true }).click()
  await form.getByRole('button', { name: 'Renew it now' }).click()
  await expect(page.getByText('Embrik has a new certificate')).toBeVisible()
  const now = await api<{ thumbprint: string }>('GET', '/api/application')
  expect(now.thumbprint).not.toBe(before.thumbprint)
  await expect(api('POST', '/api/application/renew', { thumbprint: before.thumbprint })).rejects.toThrow('another certificate by now')
  await form.getByRole('button', { name: 'Cancel' }).click()
  const row = page.locator('[data-source="Kiln controller"]')
  await expect(row).toContainText('refuses the certificate of Embrik', { timeout: 90_000 })
  await tellPanel(`/api/kiln/certificates/${now.thumbprint}`, { trusted: true })
  await expect(row).toContainText('running', { timeout: 120_000 })
})
