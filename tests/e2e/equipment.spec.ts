import type { Locator, Page } from '@playwright/test'
import type { Equipment, EquipmentClass } from '~/contract/equipment'
import { api, expect, goLive, logIn, test } from './support'

const equipment = () => api<Equipment[]>('GET', '/api/equipment')
const classes = () => api<EquipmentClass[]>('GET', '/api/classes')
const named = async (name: string) => (await equipment()).find((e) => e.name === name)!
const node = (page: Page, name: string) => page.getByRole('tree', { name: 'Plant' }).getByRole('treeitem', { name, exact: true })
const member = (page: Page, key: string) => page.locator(`[data-member="${key}"]`)
const payload = async (page: Page) => JSON.parse((await page.locator('[data-payload]').first().innerText()) || '{}') as Record<string, unknown>

async function open(page: Page, name: string): Promise<void> {
  await page.goto('/equipment')
  await page.getByLabel('filter equipment').fill(name)
  await node(page, name).click()
  await expect(page.getByRole('heading', { name, exact: true })).toBeVisible()
}

/** Takes the demo's own chambers away, so that they can be made anew. */
async function withoutDryers(): Promise<void> {
  const cls = (await classes()).find((c) => c.name === 'Dryer Chamber')
  if (!cls) return
  const remove = (await equipment()).filter((e) => e.classId === cls.id).map((e) => ({ id: e.id }))
  await api('POST', '/api/equipment/edit', { remove })
  await api('DELETE', `/api/classes/${cls.id}`)
}

test('six dryer chambers from a class, a numbered pattern, a naming pattern, a proposal, an expression and a record', async ({ page }) => {
  await withoutDryers()
  await logIn(page)

  // The class, typed member by member, one of them computed from two others.
  await page.goto('/equipment/classes')
  await page.getByRole('button', { name: 'New class' }).click()
  await page.getByLabel('Name', { exact: true }).fill('Dryer Chamber')
  for (const [i, [label, type, unit]] of [
    ['Dry bulb', 'number', '°C'],
    ['Wet bulb', 'number', '°F'],
    ['Spread', 'number', 'K'],
    ['Fan', 'number', '%'],
    ['Draught', 'number', 'Pa'],
    ['Clay moisture', 'number', '%'],
    ['Product', 'text', ''],
  ].entries()) {
    await page.getByRole('button', { name: 'Member', exact: true }).click()
    await page.getByLabel('Member', { exact: true }).nth(i).fill(label!)
    await page.getByLabel('Type').nth(i).selectOption(type!)
    await page.getByLabel('Unit').nth(i).fill(unit!)
  }
  await page.getByRole('button', { name: 'Compute Spread' }).click()
  const text = page.getByRole('textbox', { name: 'Expression for Spread' })
  await text.click()
  await page.keyboard.type('dryBulb - wet')
  await expect(page.getByRole('status').getByText('wet is not known')).toBeVisible()
  await page.keyboard.press('Control+a')
  await page.keyboard.type('dryBulb - convert(wetBulb, "°F", "°C")')
  await expect(page.getByText('gives a number')).toBeVisible()
  await page.getByRole('button', { name: 'Take over' }).click()
  await page.getByRole('button', { name: 'Add class' }).click()
  await expect(page.getByRole('button', { name: /Dryer Chamber/ })).toBeVisible()

  // Six of it, shown before they are made.
  await open(page, 'Drying')
  await page.getByRole('button', { name: 'Make many' }).click()
  await page.getByRole('menuitem', { name: 'Numbered, from a pattern' }).click()
  const many = page.getByRole('dialog')
  await many.getByRole('textbox', { name: 'Names' }).fill('Dryer Chamber {1..6}')
  await many.getByLabel('Class').selectOption({ label: 'Dryer Chamber' })
  await many.getByLabel('A fact of each').fill('line')
  await many.getByLabel('Its value').fill('packing')
  await expect(many.getByRole('list', { name: 'What there will be' }).getByRole('listitem')).toHaveCount(6)
  await many.getByRole('button', { name: 'Make 6' }).click()
  await expect(page.getByRole('heading', { name: 'Dryer Chamber 1' })).toBeVisible()

  // By naming pattern over all six: hits, and the fan is a miss.
  await page.goto('/equipment/coverage')
  await page.getByRole('button', { name: /^Dryer Chamber/ }).click()
  await expect(page.locator('[data-covered]')).toContainText('0 of 42 members filled')
  await page.getByRole('button', { name: 'Bind by pattern' }).click()
  const pattern = page.getByRole('dialog')
  await pattern.getByLabel('Tags are called').fill('Dryer {name|number}/{member}')
  await expect(pattern.getByRole('button', { name: 'Hit 12' })).toBeVisible()
  await pattern.getByRole('button', { name: 'Miss 24' }).click()
  await expect(pattern.locator('[data-hit]').filter({ hasText: 'Dryer 1/Fan' })).toContainText('none')
  await pattern.getByRole('button', { name: 'Bind 12' }).click()
  await expect(page.locator('[data-covered]')).toContainText('18 of 42 members filled')
  // One tag for all six, from the kiln, and one from the broker.
  for (const [label, tag] of [
    ['Draught', 'Tunnel Kiln 1/draught'],
    ['Clay moisture', 'Clay Prep/Probe 1/moisture'],
  ] as const) {
    await page.getByRole('button', { name: 'Bind by pattern' }).click()
    await pattern.getByLabel('Members').selectOption({ label })
    await pattern.getByLabel('Tags are called').fill(tag)
    await pattern.getByRole('button', { name: 'Bind 6' }).click()
    await expect(pattern).toBeHidden()
  }
  await page.getByRole('button', { name: 'Proposals' }).click()
  const proposals = page.getByRole('dialog')
  const fan = proposals.locator('[data-proposal="Dryer Chamber 4 Fan"]')
  await expect(fan).toContainText('Dryer 4/fan speed')
  await expect(fan).toContainText('same unit %')
  await proposals.getByLabel('Least score').fill('45')
  await proposals.getByRole('button', { name: /^Accept \d+/ }).click()
  await expect(page.locator('[data-covered]')).toContainText('36 of 42 members filled')

  // The works order in progress, through a fact of each chamber; the first by hand, the others after it.
  await page.getByRole('gridcell', { name: 'Dryer Chamber 1 Product: Empty' }).click()
  await page.getByRole('button', { name: 'Mend Product' }).click()
  await page.getByRole('button', { name: 'Record', exact: true }).click()
  await page.getByLabel('Record source').selectOption({ label: 'Works orders' })
  await page.getByLabel('Row', { exact: true }).fill('{fact.line}')
  await page.getByLabel('Column', { exact: true }).fill('product')
  await page.getByRole('button', { name: 'Bind', exact: true }).click()
  await expect(page.locator('[data-covered]')).toContainText('37 of 42 members filled')
  const first = await named('Dryer Chamber 1')
  const record = Object.entries(first.bindings).find(([, b]) => b.kind === 'record')!
  const others = (await equipment()).filter((e) => /^Dryer Chamber [2-6]$/.test(e.name))
  await api('POST', '/api/equipment/edit', { change: others.map((e) => ({ id: e.id, bindings: { ...e.bindings, [record[0]]: record[1] } })) })
  await page.reload()
  await page.getByRole('button', { name: /^Dryer Chamber/ }).click()
  await expect(page.locator('[data-covered]')).toContainText('42 of 42 members filled')
  await expect(page.getByRole('button', { name: /^Empty/ })).toContainText('0')

  // The peek holds values from Modbus, OPC UA, the broker and SQL together, converted and computed.
  await open(page, 'Dryer Chamber 2')
  await expect.poll(async () => (await payload(page)).product, { timeout: 90_000 }).toMatch(/brick|tile|paver/)
  for (const key of ['dryBulb', 'wetBulb', 'spread', 'fan', 'draught', 'clayMoisture'])
    await expect.poll(async () => typeof (await payload(page))[key], key).toBe('number')
  const now = await payload(page)
  expect(now.spread as number).toBeCloseTo((now.dryBulb as number) - ((now.wetBulb as number) - 32) / 1.8, 6)
  await member(page, 'wetBulb').getByText('Wet bulb', { exact: true }).click()
  const origin = page.locator('[data-origin]')
  await expect(origin).toContainText('Dryers and meters')
  await expect(origin).toContainText('°C to °F: × 1.8 + 32')
  await expect(member(page, 'wetBulb')).toContainText('from °C')

  // Published in three shapes, each with the values of all four kinds of source; the ledger confirms each.
  for (const [name, format, topic, shown] of [
    ['Dryers, nested', 'nested-json', '{enterprise}/{area}/{name}/nested', '"clayMoisture"'],
    ['Dryers, Sparkplug', 'sparkplug-b', null, 'clayMoisture'],
    ['Dryers, CBOR', 'cbor', '{enterprise}/{area}/{name}/cbor', 'clayMoisture'],
  ] as const) {
    await page.goto('/publications?add')
    await page.getByLabel('Name', { exact: true }).fill(name)
    await page.getByRole('button', { name: 'all 6 Dryer Chamber' }).click()
    await page.getByRole('region', { name: 'When' }).getByRole('button').first().click()
    await page.getByRole('button', { name: 'Every', exact: true }).click()
    await page.getByLabel('Seconds').fill('2')
    await page.getByRole('region', { name: 'Shape' }).getByRole('button').first().click()
    await page.getByLabel('Format').selectOption(format)
    await page.getByRole('region', { name: 'Address' }).getByRole('button').first().click()
    if (topic) await page.getByLabel('Topic', { exact: true }).fill(topic)
    await expect(page.getByText('6 topics')).toBeVisible()
    await expect(page.getByRole('tree', { name: 'Topics' })).toContainText(topic ? 'varnmoor/drying' : 'spBv1.0/varnmoor/DDATA/embrik')
    const peek = page.getByRole('complementary', { name: 'Peek' })
    await expect(peek).toContainText(shown)
    if (!topic) await expect(peek.getByRole('table', { name: 'Read again' })).toContainText('product')
    await goLive(page)
    await expect(page.locator('[data-state="live"]')).toContainText('version 1')
    await expect(page.getByText('Confirmed by witness')).toBeVisible()
    await page.goto('/proof')
    const line = page.locator(`[data-line="${name}"]`)
    const count = async (what: string) => Number(((await line.locator(`[data-count="${what}"]`).textContent()) ?? '0').replace(/\D/g, ''))
    await expect.poll(() => count('arrived'), { timeout: 120_000 }).toBeGreaterThanOrEqual(12)
    expect(await count('missing')).toBe(0)
    const [made] = (await api<{ id: string; name: string }[]>('GET', '/api/publications')).filter((x) => x.name === name)
    // What receivers are given speaks of the same.
    const contract = await api<{ messages: { topicCount: number }[] }>('GET', `/api/publications/${made!.id}/contract`)
    expect(contract.messages.reduce((n, m) => n + m.topicCount, 0)).toBe(6)
    expect(await api<{ asyncapi: string; channels: object }>('GET', `/api/publications/${made!.id}/asyncapi`)).toMatchObject({ asyncapi: '3.0.0' })
    await api('POST', `/api/publications/${made!.id}/pause`)
    await api('DELETE', `/api/publications/${made!.id}`)
  }
})

type Box = NonNullable<Awaited<ReturnType<Locator['boundingBox']>>>

/** Where both stand, once they move no more: a tree that was filtered a moment ago is laid out anew. */
async function standing(...what: [Locator, Locator]) {
  let before = ''
  for (;;) {
    const boxes = (await Promise.all(what.map((l) => l.boundingBox()))) as [Box, Box]
    if (JSON.stringify(boxes) === before) return boxes
    before = JSON.stringify(boxes)
    await what[0].page().waitForTimeout(200)
  }
}

test('a tag is dragged onto a member, equipment onto its new place, and each is taken back', async ({ page }) => {
  await logIn(page)
  await open(page, 'Zone 5')
  await page.getByRole('button', { name: 'Unbind Gas flow' }).click()
  await expect(member(page, 'gasFlow')).toContainText('nothing: left out')
  await page.getByRole('button', { name: 'Tags to drag' }).click()
  await page.getByLabel('filter tags').fill('zone 5 gas')
  const drag = async (from: ReturnType<Page['locator']>, to: ReturnType<Page['locator']>) => {
    const [a, b] = await standing(from, to)
    await page.mouse.move(a.x + 60, a.y + a.height / 2)
    await page.mouse.down()
    await page.mouse.move(a.x + 75, a.y + a.height / 2 + 8, { steps: 3 })
    await page.mouse.move(b.x + b.width / 3, b.y + b.height / 2, { steps: 8 })
    await page.mouse.up()
  }
  await drag(page.locator('[data-tag="Zone 5/gas flow"]'), member(page, 'gasFlow'))
  await expect(member(page, 'gasFlow').getByRole('link', { name: 'Zone 5/gas flow' })).toBeVisible()

  await page.getByRole('button', { name: 'Plant', exact: true }).click()
  await page.getByLabel('filter equipment').fill('')
  const [kiln, drying] = [await named('Tunnel Kiln 1'), await named('Drying')]
  await drag(node(page, 'Zone 5').getByText('Zone 5'), node(page, 'Drying').getByText('Drying'))
  await expect.poll(async () => (await named('Zone 5')).parentId).toBe(drying.id)
  await page.keyboard.press('Control+z')
  await expect.poll(async () => (await named('Zone 5')).parentId).toBe(kiln.id)

  // The same by keyboard; and what does not fit is refused with the reason.
  await page.getByLabel('filter equipment').fill('Zone 5')
  await node(page, 'Zone 5').click()
  await page.keyboard.press('Control+x')
  await page.getByLabel('filter equipment').fill('Drying')
  await node(page, 'Drying').click()
  await page.keyboard.press('Control+v')
  await expect.poll(async () => (await named('Zone 5')).parentId).toBe(drying.id)
  await page.keyboard.press('Control+z')
  await expect.poll(async () => (await named('Zone 5')).parentId).toBe(kiln.id)
  await page.getByLabel('filter equipment').fill('Firing')
  await node(page, 'Firing').click()
  await page.keyboard.press('Control+x')
  await page.getByLabel('filter equipment').fill('Drying')
  await node(page, 'Drying').click()
  await page.keyboard.press('Control+v')
  await expect(page.getByText('Firing, an area, cannot stand under Drying, an area')).toBeVisible()
})

test('an expression is typed with what is offered, gives its result at once, and a circle is refused with its way', async ({ page }) => {
  await logIn(page)
  await open(page, 'Zone 6')
  await page.getByRole('button', { name: 'Change Gas flow' }).click()
  await page.getByRole('button', { name: 'Expression', exact: true }).click()
  const form = page.getByRole('dialog')
  await form.getByRole('textbox', { name: 'Expression for Gas flow' }).click()
  await page.keyboard.type('round(tempe')
  await page.locator('.cm-tooltip-autocomplete').getByText('temperature', { exact: true }).first().click()
  await page.keyboard.type(' / setpo')
  await page.locator('.cm-tooltip-autocomplete').getByText('setpoint', { exact: true }).first().click()
  await page.keyboard.type(', 3')
  await expect(form.locator('[data-result]')).toContainText(/Now\s*[01]\.\d/)
  await form.getByRole('button', { name: 'Bind', exact: true }).click()
  await expect(member(page, 'gasFlow')).toContainText('round(temperature / setpoint, 3)')
  await member(page, 'gasFlow').getByText('Gas flow', { exact: true }).click()
  await expect(page.locator('[data-origin]')).toContainText('Zone 6/setpoint')

  await page.getByRole('button', { name: 'Change Setpoint' }).click()
  await page.getByRole('button', { name: 'Expression', exact: true }).click()
  await form.getByRole('textbox', { name: 'Expression for Setpoint' }).click()
  await page.keyboard.type('gasFlow * 2')
  await page.keyboard.press('Escape')
  await expect(form).toBeVisible()
  await form.getByRole('button', { name: 'Bind', exact: true }).click()
  await expect(page.getByText('It would need itself: Zone 6 Setpoint > Zone 6 Gas flow > Zone 6 Setpoint')).toBeVisible()
  await form.getByRole('button', { name: 'Cancel' }).click()
  const zone = await named('Zone 6')
  const tags = await api<{ id: string; name: string }[]>('GET', '/api/tags')
  const gas = Object.keys(zone.bindings).find((k) => zone.bindings[k]!.kind === 'expression')!
  await api('POST', '/api/equipment/edit', {
    change: [{ id: zone.id, bindings: { ...zone.bindings, [gas]: { kind: 'tag', tagId: tags.find((t) => t.name === 'Zone 6/gas flow')!.id } } }],
  })
})

test('a member is renamed: what breaks is shown first, bindings hold, and the version tells it', async ({ page }) => {
  await logIn(page)
  await page.goto('/equipment/classes')
  await page.getByRole('button', { name: /^Tunnel Kiln/ }).click()
  const before = await named('Tunnel Kiln 1')
  const key = page.getByLabel('Name in payloads').nth(1)
  await expect(key).toHaveValue('oxygen')
  await key.fill('o2')
  await expect(page.getByRole('region', { name: 'What this changes' })).toContainText('is o2 in payloads, before oxygenbreaks receivers')
  await expect(page.getByRole('region', { name: 'What receivers see' })).toContainText('oxygen → o2')
  await page.getByRole('button', { name: 'Save' }).click()
  await expect(page.getByText(/Tunnel Kiln is saved, version \d/)).toBeVisible()
  expect((await named('Tunnel Kiln 1')).bindings).toEqual(before.bindings)
  await open(page, 'Tunnel Kiln 1')
  await expect(member(page, 'o2').getByRole('link', { name: 'Tunnel Kiln 1/oxygen' })).toBeVisible()
  await expect.poll(async () => typeof (await payload(page)).o2).toBe('number')
  await page.goto('/equipment/classes')
  await page.getByRole('button', { name: /^Tunnel Kiln/ }).click()
  await page.getByRole('region', { name: 'Versions' }).getByRole('button').first().click()
  await expect(page.getByRole('region', { name: 'Versions' })).toContainText('before oxygen')
  await page.getByLabel('Name in payloads').nth(1).fill('oxygen')
  await page.getByRole('button', { name: 'Save' }).click()
  await expect(page.getByText(/Tunnel Kiln is saved, version \d/).last()).toBeVisible()
})

test('a work centre is renamed: the topics that change are shown first, and bindings hold', async ({ page }) => {
  await logIn(page)
  await open(page, 'Tunnel Kiln 1')
  const before = await named('Tunnel Kiln 1')
  await page.getByRole('button', { name: 'Name and place' }).click()
  const dialog = page.getByRole('dialog')
  await dialog.getByLabel('Name', { exact: true }).fill('Long Kiln')
  const seen = dialog.getByRole('region', { name: 'What receivers see' })
  await expect(seen).toContainText('varnmoor/lower-pit/firing/tunnel-kiln-1/zone-1/state → varnmoor/lower-pit/firing/long-kiln/zone-1/state')
  await expect(seen).toContainText('Kiln zones, each change, live')
  await dialog.getByRole('button', { name: 'Save' }).click()
  await expect(page.getByRole('heading', { name: 'Long Kiln' })).toBeVisible()
  expect((await named('Long Kiln')).bindings).toEqual(before.bindings)
  await page.keyboard.press('Control+z')
  await expect(page.getByRole('heading', { name: 'Tunnel Kiln 1' })).toBeVisible()
})

test('equipment comes from cells of a spreadsheet: seen first, only the good rows, taken back', async ({ page }) => {
  await logIn(page)
  await open(page, 'Lower Pit')
  await page.getByRole('button', { name: 'Make many' }).click()
  await page.getByRole('menuitem', { name: /spreadsheet/ }).click()
  const dialog = page.getByRole('dialog')
  const rows = ['Varnmoor / Lower Pit\tPacking\tarea\t\t', 'Varnmoor / Lower Pit / Packing\tStacker 1\twork unit\t\t7', 'Nowhere\tX\tarea\t\t']
  await dialog.getByLabel('Cells').fill(['under\tname\tlevel\tclass\tfact: bay', ...rows, 'Varnmoor\tLower Pit\tsite\t\t'].join('\n'))
  await expect(dialog.locator('[data-plan="faulty"]')).toContainText('under: No equipment stands there')
  await expect(dialog.locator('[data-plan="same"]')).toContainText('Lower Pit')
  await dialog.getByRole('button', { name: 'Apply 2' }).click()
  await expect(dialog).toBeHidden()
  expect((await named('Stacker 1')).facts).toEqual({ bay: 7 })
  await page.keyboard.press('Control+z')
  await expect.poll(async () => (await equipment()).some((e) => e.name === 'Packing')).toBe(false)
})

test('a class comes from a branch of tags with its equipment, another from a JSON Schema', async ({ page }) => {
  await logIn(page)
  await open(page, 'Lower Pit')
  await page.getByRole('button', { name: 'Make many' }).click()
  await page.getByRole('menuitem', { name: /branch/ }).click()
  const dialog = page.getByRole('dialog')
  await dialog.getByLabel('Folder').selectOption('Clay Prep/Probe 1')
  await expect(dialog.getByRole('list', { name: 'Proposed members' })).toContainText('clayTemperature')
  await expect(dialog.getByRole('list', { name: 'Proposed equipment' }).getByRole('listitem')).toHaveCount(3)
  await dialog.getByLabel('Level').selectOption('area')
  await dialog.getByRole('button', { name: 'Make the class and 3' }).click()
  await expect(page.getByRole('heading', { name: 'Probe 1' })).toBeVisible()
  await expect.poll(async () => typeof (await payload(page)).moisture).toBe('number')

  await page.goto('/equipment/classes')
  await page.getByRole('button', { name: 'Import' }).click()
  const schema = {
    title: 'Roller Pair',
    type: 'object',
    properties: {
      gap: { type: 'number', 'x-unit': 'mm', minimum: 0, maximum: 20 },
      motor: { $ref: '#/$defs/Motor' },
    },
    required: ['gap'],
    $defs: { Motor: { type: 'object', properties: { current: { type: 'number', 'x-unit': 'A' } } } },
    oneOf: [],
  }
  await dialog.getByLabel('JSON Schema').fill('{')
  await expect(dialog.getByRole('alert')).toContainText('This is no JSON')
  await dialog.getByLabel('JSON Schema').fill(JSON.stringify(schema))
  await expect(dialog).toContainText('oneOf has no counterpart and is left out')
  await dialog.getByRole('button', { name: 'Make 2 classes' }).click()
  await expect(page.getByRole('button', { name: /^Roller Pair/ })).toBeVisible()
  const made = await classes()
  const pair = made.find((c) => c.name === 'Roller Pair')!
  expect(pair.members.map((m) => [m.key, m.required, m.classId])).toEqual([
    ['gap', true, null],
    ['motor', false, made.find((c) => c.name === 'Motor')!.id],
  ])
  const probes = made.find((c) => c.name === 'Probe')!
  await api('POST', '/api/equipment/edit', { remove: (await equipment()).filter((e) => e.classId === probes.id).map((e) => ({ id: e.id })) })
  for (const c of [probes, pair, made.find((x) => x.name === 'Motor')!]) await api('DELETE', `/api/classes/${c.id}`)
})
