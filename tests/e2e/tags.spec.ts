import { readFileSync } from 'node:fs'
import type { Page } from '@playwright/test'
import readXlsx from 'read-excel-file/node'
import { bookOf, type Given } from '../workbook'
import { api, expect, logIn, test, web } from './support'

interface Stored {
  id: string
  name: string
  unit: string
  description: string
  sourceId: string
  address: string
  version: number
  [key: string]: unknown
}
const stored = () => api<Stored[]>('GET', '/api/tags')
/** What is stored, but for what every edit counts on. */
const plain = async () => Object.fromEntries((await stored()).map(({ version: _v, handle: _h, ...t }) => [t.id, t]))
const grid = (page: Page) => page.getByRole('grid', { name: 'Tags' })
const filter = (page: Page, words: string) => page.getByLabel('filter names, units, addresses').fill(words)
const cell = (page: Page, row: RegExp, column: string) => page.getByRole('row', { name: row }).locator(`[data-column="${column}"]`)
const plan = (page: Page, state: string) => page.locator(`[data-plan="${state}"]`)

/** Columns as they were first, whatever another test has chosen. */
async function open(page: Page, columns: string[] = []): Promise<void> {
  await logIn(page)
  await page.goto('/tags')
  await expect(grid(page).getByRole('row').nth(3)).toBeVisible()
  if (columns.length === 0) return
  await page.getByRole('button', { name: 'Columns', exact: true }).click()
  for (const c of columns) await page.getByLabel(c, { exact: true }).check()
  await page.keyboard.press('Escape')
}

test('a cell is edited where it stands: refused while it is wrong, saved by Enter, taken back by Ctrl+Z and done again', async ({ page }) => {
  await open(page, ['Deadband'])
  await filter(page, 'compressor 1/hours')
  await cell(page, /hours/, 'deadband').dblclick()
  const input = page.getByLabel('Deadband of Compressor 1/hours')
  await input.fill('1 %')
  await expect(page.getByText('Per cent of what? Give the tag a range')).toBeVisible()
  await page.keyboard.press('Enter')
  await expect(input).toBeVisible()
  await input.fill('0.25')
  await page.keyboard.press('Enter')
  await expect(cell(page, /hours/, 'deadband')).toHaveText('0.25')
  await page.keyboard.press('Control+z')
  await expect(cell(page, /hours/, 'deadband')).toHaveText('')
  await page.keyboard.press('Control+y')
  await expect(cell(page, /hours/, 'deadband')).toHaveText('0.25')
  await page.getByRole('button', { name: 'Undo', exact: true }).first().click()
  await expect(cell(page, /hours/, 'deadband')).toHaveText('')
  // By keyboard alone: to the cell, edit, leave it.
  await grid(page).focus()
  await page.keyboard.press('Home')
  await page.keyboard.press('F2')
  await expect(input).toBeVisible()
  await page.keyboard.press('Escape')
  await expect(input).toHaveCount(0)
})

test('columns are chosen, moved, kept at the left, widened, sorted and filtered; what stands out is counted', async ({ page }) => {
  await open(page, ['Source', 'Address'])
  const heads = () => page.getByRole('columnheader').allTextContents()
  expect((await heads()).map((h) => h.trim())).toEqual(expect.arrayContaining(['Name', 'Value', 'Source', 'Address']))
  const menu = async (column: string, item: string) => {
    await page.getByRole('button', { name: `Column ${column}`, exact: true }).focus()
    await page.keyboard.press('Enter')
    await page.getByRole('menuitem', { name: item, exact: true }).click()
  }
  await menu('Value', 'Keep at the left')
  expect((await heads()).slice(0, 3).map((h) => h.trim())).toEqual(['State', 'Name', 'Value'])
  await menu('Address', 'Move left')
  const now = (await heads()).map((h) => h.trim())
  expect(now.indexOf('Address')).toBeLessThan(now.indexOf('Source'))
  const width = async () => (await page.getByRole('columnheader', { name: 'Unit' }).boundingBox())!.width
  const before = await width()
  await menu('Unit', 'Wider')
  expect(await width()).toBeGreaterThan(before + 20)
  await menu('Unit', 'Hide')
  await expect(page.getByRole('columnheader', { name: 'Unit' })).toHaveCount(0)
  // Kept over a reload.
  await page.waitForTimeout(400)
  await page.reload()
  await expect(grid(page).getByRole('row').nth(3)).toBeVisible()
  expect((await heads()).slice(0, 3).map((h) => h.trim())).toEqual(['State', 'Name', 'Value'])

  await page.getByRole('button', { name: 'Filters' }).click()
  await page.getByLabel('Filter Source', { exact: true }).fill('=kiln controller')
  await page.getByLabel('Filter Name', { exact: true }).fill('temperature')
  await page.getByLabel('Filter Value', { exact: true }).fill('>100')
  await expect.poll(async () => Number(await grid(page).getAttribute('aria-rowcount'))).toBeGreaterThan(5)
  await page.getByRole('columnheader', { name: 'Value' }).getByRole('button').first().click()
  await expect(page.getByRole('columnheader', { name: 'Value' })).toHaveAttribute('aria-sort', 'ascending')
  await expect
    .poll(async () => {
      const values = (await grid(page).locator('[role=row] [data-column=value]').allTextContents()).map(Number)
      return values.length > 4 && values[0]! < values.at(-1)! && values.every((v) => v > 90)
    })
    .toBe(true)
  await page.getByLabel('Filter Value', { exact: true }).fill('<-5000')
  await expect(page.getByText('No tag fits.')).toBeVisible()
  await page.getByRole('button', { name: 'Show all' }).click()

  await page.getByRole('button', { name: /^Simulated \d/ }).click()
  await expect.poll(async () => Number(await grid(page).getAttribute('aria-rowcount'))).toBeGreaterThan(2)
  await expect(page.locator('[data-made-up]').first()).toBeVisible()
  await page.getByRole('button', { name: /^All tags/ }).click()
  await page.getByRole('treeitem', { name: 'Compressor 1' }).click()
  await expect(grid(page)).toHaveAttribute('aria-rowcount', '5')
})

test('a table with faults is brought in: dry run with row, column and reason, only the good ones, and all of it taken back', async ({ page }) => {
  await open(page)
  const before = await plain()
  await page.getByRole('button', { name: 'Import' }).click()
  // With semicolons, decimal commas and the encoding of an older spreadsheet.
  const text = [
    'Name;source;address;Unit;type;low;high;deadband;colour',
    'Brought/one;Trial signals;noise low=0 high=1;°C;number;0;99,5;0,5;red',
    'Brought/two;Trial signals;noise low=0 high=1;CEL;number;0;10;1 %;',
    'Compressor 1/pressure;Compressor 1;/pressure;mbar;number;;;;',
    'Brought/three;Nowhere;x;;float;9;1;;',
  ].join('\r\n')
  await page.getByLabel('File').setInputFiles({ name: 'tags.csv', mimeType: 'text/csv', buffer: Buffer.from(text, 'latin1') })
  await expect(plan(page, 'add')).toContainText('2')
  await expect(plan(page, 'faulty')).toContainText('1')
  await expect(page.locator('[data-understood]')).toContainText('windows-1252')
  await expect(page.getByText('Left out, since no column is called so: colour')).toBeVisible()
  const rows = page.locator('[data-plan-rows]')
  await expect(rows).toContainText('row 5')
  await expect(rows).toContainText('There is no source Nowhere')
  await expect(rows).toContainText('float is none of')
  await plan(page, 'add').click()
  await expect(rows).toContainText('one')
  expect(await plain()).toEqual(before)
  await page.getByRole('button', { name: /^Apply only the \d good/ }).click()
  await expect(page.getByText(/2 tags added/).first()).toBeVisible()
  const after = await stored()
  expect(after.find((t) => t.name === 'Brought/one')).toMatchObject({
    unit: '°C',
    range: { low: 0, high: 99.5 },
    deadband: { kind: 'absolute', size: 0.5 },
  })
  expect(after.find((t) => t.name === 'Brought/two')).toMatchObject({ unit: '°C', deadband: { kind: 'percent', size: 1 } })
  expect(after.some((t) => t.name === 'Brought/three')).toBe(false)
  await grid(page).focus()
  await page.keyboard.press('Control+z')
  await expect(page.getByText(/Taken back/).first()).toBeVisible()
  expect(await plain()).toEqual(before)
})

test('a tag that is asked for is on the screen, under the headings', async ({ page }) => {
  await logIn(page)
  for (const name of ['Zone 7/temperature', 'Dryer 2/alarm', 'Zone 9/temperature']) {
    await page.goto(`/tags?tag=${(await stored()).find((t) => t.name === name)!.id}`)
    const row = page.getByRole('row', { name, exact: true })
    // A row may be wider than the screen; its height is all there.
    await expect(row).toBeInViewport({ ratio: 0.6 })
    const scroller = (await page.locator('[data-scroller]').boundingBox())!
    await expect.poll(async () => (await row.boundingBox())!.y + 27).toBeLessThanOrEqual(scroller.y + scroller.height)
    const head = (await page.getByRole('columnheader', { name: 'Name' }).boundingBox())!
    await expect.poll(async () => (await row.boundingBox())!.y).toBeGreaterThanOrEqual(head.y + head.height - 1)
  }
  // Upwards row by row: what is pointed at never hides under the headings.
  await grid(page).focus()
  for (let i = 0; i < 40; i++) await page.keyboard.press('ArrowUp')
  const head = (await page.getByRole('columnheader', { name: 'Name' }).boundingBox())!
  await expect.poll(async () => (await page.getByRole('row', { selected: true }).boundingBox())!.y).toBeGreaterThanOrEqual(head.y + head.height - 1)
})

test('what cannot be read at all says why', async ({ page }) => {
  await open(page)
  await page.getByRole('button', { name: 'Import' }).click()
  const bring = (name: string, buffer: Buffer) => page.getByLabel('File').setInputFiles({ name, mimeType: 'text/csv', buffer })
  await bring('odd.csv', Buffer.from('name,unit\na,"open'))
  await expect(page.getByText('Quotes do not match')).toBeVisible()
  await bring('odd.csv', Buffer.from('colour,weight\nred,7\n'))
  await expect(page.getByText('The first row has no column called name or id')).toBeVisible()
  await bring('odd.xlsx', Buffer.concat([Buffer.from('PK\x03\x04'), Buffer.alloc(200, 7)]))
  await expect(page.getByText('This is no XLSX workbook, or it is damaged')).toBeVisible()
  await bring('long.csv', Buffer.from(`name,description\nZone 1/temperature,${'x'.repeat(10 << 20)}\n`))
  await expect(page.getByText(/At most 500 characters/)).toBeVisible({ timeout: 90_000 })
  await expect(page.getByRole('button', { name: 'Nothing to do' })).toBeDisabled()
})

test('a spreadsheet round trip changes exactly the edited cells, from a workbook and from the clipboard', async ({ page, context }) => {
  await context.grantPermissions(['clipboard-read', 'clipboard-write'])
  await open(page)
  const before = await plain()
  await filter(page, 'dryer 2')
  await expect(grid(page)).toHaveAttribute('aria-rowcount', '10')
  await page.getByRole('button', { name: 'Export' }).click()
  const coming = page.waitForEvent('download')
  await page.getByRole('menuitem', { name: 'XLSX' }).click()
  const [{ data }] = (await readXlsx(readFileSync(await (await coming).path()), { trim: false })) as unknown as [{ data: Given[][] }]
  const at = (key: string) => data[0]!.indexOf(key)
  const rowOf = (name: string) => data.find((row) => row[at('name')] === name)!
  expect(data.length).toBe(11)
  rowOf('Dryer 2/damper')[at('description')] = 'Exhaust damper'
  rowOf('Dryer 2/fan speed')[at('high')] = 120
  rowOf('Dryer 2/fan speed')[at('low')] = -0.5
  rowOf('Dryer 2/dry bulb')[at('name')] = 'Dryer 2/dry bulb temperature'
  await page.getByRole('button', { name: 'Import' }).click()
  await page
    .getByLabel('File')
    .setInputFiles({ name: 'tags.xlsx', mimeType: 'application/octet-stream', buffer: Buffer.from(bookOf({ tags: data })) })
  await expect(plan(page, 'change')).toContainText('3')
  await expect(plan(page, 'same')).toContainText('7')
  await page.getByRole('button', { name: 'Apply all 3' }).click()
  await expect(page.getByText('3 tags changed').first()).toBeVisible()
  const id = (name: string) => Object.values(before).find((t) => t.name === name)!.id
  const wanted = structuredClone(before)
  wanted[id('Dryer 2/damper')]!.description = 'Exhaust damper'
  wanted[id('Dryer 2/fan speed')]!.range = { low: -0.5, high: 120 }
  wanted[id('Dryer 2/dry bulb')]!.name = 'Dryer 2/dry bulb temperature'
  expect(await plain()).toEqual(wanted)

  // The same by the clipboard: copied, one cell edited, pasted.
  await grid(page).focus()
  await page.keyboard.press('Control+z')
  await expect.poll(plain).toEqual(before)
  await page.getByRole('row', { name: /Dryer 2\/damper/ }).click()
  await page.keyboard.press('Control+a')
  await page.keyboard.press('Control+c')
  await expect(page.getByText('10 tags copied')).toBeVisible()
  const copied = await page.evaluate(() => navigator.clipboard.readText())
  expect(copied.split('\r\n')[0]!.split('\t')).toEqual(['name', 'value', 'unit', 'quality', 'time'])
  expect(copied).toMatch(/Dryer 2\/damper\t[\d.]+\t%\tgood\t\d{4}-\d\d-\d\dT[\d:.]+Z\r\n/)
  await page.evaluate((t) => navigator.clipboard.writeText(t), copied.replace(/(Dryer 2\/damper\t[\d.]+\t)%/, '$11'))
  await grid(page).focus()
  await page.keyboard.press('Control+v')
  await expect(plan(page, 'change')).toContainText('1')
  await expect(plan(page, 'same')).toContainText('9')
  await page.getByRole('button', { name: 'Apply all 1' }).click()
  await expect(page.getByText('1 tag changed').first()).toBeVisible()
  const pasted = structuredClone(before)
  pasted[id('Dryer 2/damper')]!.unit = '1'
  expect(await plain()).toEqual(pasted)
  await page.keyboard.press('Escape')
  await grid(page).focus()
  await page.keyboard.press('Control+z')
  await expect.poll(plain).toEqual(before)
})

test('many tags get a property together after a look at what changes; a folder is moved and the outside is told to stay', async ({ page }) => {
  await open(page)
  const before = await plain()
  await filter(page, 'zone 1')
  await page.getByRole('row', { name: /Zone 1\/temperature/ }).click()
  await page.keyboard.press('Control+a')
  const count = Number(await grid(page).getAttribute('aria-rowcount'))
  await page.getByRole('button', { name: `Edit ${count}`, exact: true }).click()
  await page.getByLabel('Property').selectOption('hold')
  await page.getByLabel('Text').selectOption('machine')
  await expect(plan(page, 'change')).toContainText(String(count))
  await expect(page.locator('[data-plan-rows]')).toContainText('nothing→machine')
  await page.getByRole('button', { name: `Apply all ${count}` }).click()
  await expect.poll(async () => (await stored()).filter((t) => t.hold === 'machine').length).toBe(count)
  await grid(page).focus()
  await page.keyboard.press('Control+z')
  await expect.poll(plain).toEqual(before)

  await filter(page, '')
  await page.getByRole('tree', { name: 'Folders' }).focus()
  await page.keyboard.press('End')
  await page.getByRole('treeitem', { name: 'Zone 7' }).hover()
  await page.getByRole('button', { name: 'Folder Zone 7', exact: true }).click()
  await page.getByRole('menuitem', { name: 'Rename or move' }).click()
  await page.getByLabel('New path').fill('Kiln/Zone 7')
  await expect(plan(page, 'change')).toContainText('4')
  await expect(page.locator('[data-outside]')).toContainText('topics and payloads stay as they are')
  await expect(page.locator('[data-outside]')).toContainText('(stays)')
  await page.getByRole('button', { name: 'Apply all 4' }).click()
  await expect(page.getByText('4 tags changed').first()).toBeVisible()
  expect((await stored()).some((t) => t.name === 'Kiln/Zone 7/temperature')).toBe(true)
  await grid(page).focus()
  await page.keyboard.press('Control+z')
  await expect.poll(plain).toEqual(before)
})

test('a folder becomes a pattern and is laid down again with other numbers', async ({ page }) => {
  await open(page)
  const before = await plain()
  await page.getByRole('treeitem', { name: 'Power Meter 1' }).hover()
  await page.getByRole('button', { name: 'Folder Power Meter 1', exact: true }).click()
  await page.getByRole('menuitem', { name: 'Make a pattern of it' }).click()
  await page.getByRole('button', { name: 'Save pattern' }).click()
  await expect(page.getByText('The pattern Power Meter is saved')).toBeVisible()
  await page.getByRole('button', { name: 'Patterns' }).click()
  await page.getByLabel('How often').fill('2')
  await page.getByLabel('First folder').fill('South/Power Meter 8')
  await page.getByLabel('First source').selectOption('Dryers and meters')
  await page.getByLabel('First unit').fill('40')
  await page.getByLabel('First base address').fill('200')
  await page.getByLabel('First device').fill('Power Meter 8')
  await expect(plan(page, 'add')).not.toContainText(/^0/)
  await page.getByRole('button', { name: /^Apply all/ }).click()
  await expect(page.getByText(/tags added/).first()).toBeVisible()
  const made = (await stored()).filter((t) => t.name.startsWith('South/'))
  const of = (n: number) => made.filter((t) => t.name.startsWith(`South/Power Meter ${n}/`))
  expect(of(8).length).toBeGreaterThan(2)
  expect(of(9).length).toBe(of(8).length)
  expect(of(8).find((t) => t.name.endsWith('/power'))!.address).toMatch(/^40 holding@200 /)
  expect(of(9).find((t) => t.name.endsWith('/power'))!.address).toMatch(/^41 holding@200 /)
  await grid(page).focus()
  await page.keyboard.press('Control+z')
  await expect.poll(plain).toEqual(before)
  await page.getByRole('button', { name: 'Patterns' }).click()
  await page.getByRole('button', { name: 'Remove this pattern' }).click()
  await expect(page.getByText('No pattern yet')).toBeVisible()
})

test('scripts bring tags in as the page does, and one row too many refuses all', async () => {
  const key = { authorization: `Bearer ${readFileSync(`${process.env.EMBRIK_E2E_HOME}/demo/api-key`, 'utf8').trim()}`, 'content-type': 'text/csv' }
  const send = async (body: string, apply: string) => {
    const response = await fetch(`${web}/api/tags/csv?apply=${apply}`, { method: 'POST', headers: key, body })
    return { status: response.status, ...((await response.json()) as { message?: string; counts?: unknown; applied?: boolean; rows?: unknown[] }) }
  }
  const before = await plain()
  const csv = await (await fetch(`${web}/api/tags/csv`, { headers: key })).text()
  expect(await send(csv, 'all')).toMatchObject({ status: 200, counts: { add: 0, change: 0, same: Object.keys(before).length, faulty: 0 } })
  const rows = 'name,source,address\nScripted/a,Trial signals,noise low=0 high=1\nScripted/b,Nowhere,x\n'
  expect(await send(rows, 'all')).toMatchObject({
    applied: false,
    counts: { add: 1, faulty: 1 },
    rows: [{ line: 3, state: 'faulty', faults: [{ column: 'source' }] }],
  })
  expect(await plain()).toEqual(before)
  expect(await send(rows, 'good')).toMatchObject({ applied: true })
  const made = (await stored()).filter((t) => t.name.startsWith('Scripted/'))
  expect(made.map((t) => t.name)).toEqual(['Scripted/a'])
  expect(await send('name,unit\na,"open', 'all')).toMatchObject({ status: 422, message: expect.stringContaining('Quotes do not match') })
  expect(await send('x'.repeat(1000), 'no')).toMatchObject({ status: 422 })
  await api('POST', '/api/tags/remove', { ids: made.map((t) => t.id) })
})

test('an edit that is stopped on its way saves nothing', async () => {
  const before = await plain()
  const source = (await api<{ id: string; name: string }[]>('GET', '/api/sources')).find((s) => s.name === 'Trial signals')!
  const add = Array.from({ length: 40_000 }, (_, i) => ({
    name: `Stopped/${i}`,
    sourceId: source.id,
    address: 'noise low=0 high=1',
    dataType: 'number',
  }))
  const stop = new AbortController()
  const response = await fetch(`${web}/api/tags/edit`, {
    method: 'POST',
    headers: {
      authorization: `Bearer ${readFileSync(`${process.env.EMBRIK_E2E_HOME}/demo/api-key`, 'utf8').trim()}`,
      'content-type': 'application/json',
    },
    body: JSON.stringify({ add }),
    signal: stop.signal,
  })
  const first = await response.body!.getReader().read()
  expect(new TextDecoder().decode(first.value)).toContain('"done":5000')
  stop.abort()
  // The same name waits for the stopped edit to end, and is free when that saved nothing.
  const [made] = await api<Stored[]>('POST', '/api/tags', { tags: add.slice(0, 1) })
  await api('POST', '/api/tags/remove', { ids: [made!.id] })
  expect(await plain()).toEqual(before)
})
