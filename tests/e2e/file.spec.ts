import { mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { dirname, join } from 'node:path'
import { objectBucket, objectKeys } from '../../src/standins/plant'
import { api, demo, expect, goLive, logIn, panel, port, test } from './support'

const lake = join(demo, 'files', 'by-hand')
const objectsUrl = `https://127.0.0.1:${port + 25}`

/** Sets what goes wrong at the store; `{}`: nothing. */
const faults = (body: object) =>
  fetch(`${panel}/api/objects/faults`, { method: 'PUT', headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) })

test.afterAll(async () => {
  const named = async (path: string, name: string) => (await api<{ id: string; name: string }[]>('GET', path)).filter((x) => x.name === name)
  for (const { id } of await named('/api/publications', 'Zone 6, in files')) {
    await api('POST', `/api/publications/${id}/pause`)
    await api('DELETE', `/api/publications/${id}`)
  }
  for (const name of ['Files by hand', 'Store by hand'])
    for (const { id } of await named('/api/destinations', name)) await api('DELETE', `/api/destinations/${id}`)
  rmSync(lake, { recursive: true, force: true })
})

test('a folder is added: its check fails where a file lies, is mended, and what lies in finished files is confirmed on the wall', async ({
  page,
}) => {
  rmSync(lake, { recursive: true, force: true })
  await logIn(page)
  await page.goto('/destinations?add')
  const form = page.getByRole('dialog')
  await form.getByLabel('Kind').selectOption({ label: 'Files' })
  await form.getByLabel('Name', { exact: true }).fill('Files by hand')
  await expect(form.getByLabel('Bucket', { exact: true })).toHaveCount(0)
  const folder = form.getByLabel('Folder', { exact: true })
  await folder.fill('../etc')
  await expect(form).toContainText('none that begins with a dot')
  await folder.fill('by-hand')
  await form.getByLabel('Finished after').fill('1')
  await form.getByLabel('Format').selectOption('csv')
  // Somebody has put a file where the folder is to be.
  mkdirSync(dirname(lake), { recursive: true })
  writeFileSync(lake, 'a file')
  const step = (key: string) => page.locator(`[data-step="${key}"]`)
  const check = form.getByRole('button', { name: /^Check (the connection|again)$/ })
  await check.click()
  await expect(step('folder')).toHaveAttribute('data-state', 'failed')
  await expect(step('folder')).toContainText('a file lies where a folder is needed')
  rmSync(lake)
  await check.click()
  await expect(step('write')).toContainText('a file can be written and named')
  await expect(step('witness')).toHaveAttribute('data-state', 'passed')
  await form.getByRole('button', { name: 'Add destination' }).click()
  await expect(form).toBeHidden()
  await expect(page.getByRole('row', { name: /Files by hand/ })).toContainText('running')

  await page.goto('/publications?add')
  await page.getByLabel('Name', { exact: true }).fill('Zone 6, in files')
  await page.getByRole('checkbox', { name: /Zone 6/ }).check()
  await page.getByRole('region', { name: 'When' }).getByRole('button').first().click()
  await page.getByRole('button', { name: 'Every', exact: true }).click()
  await page.getByLabel('Seconds').fill('1')
  await page.getByRole('region', { name: 'Through' }).getByRole('button').first().click()
  await page.getByLabel('Destination', { exact: true }).selectOption({ label: 'Files by hand' })
  const address = page.getByRole('region', { name: 'Address' })
  await address.getByRole('button').first().click()
  const path = address.getByRole('textbox', { name: 'Path', exact: true })
  await path.fill('../{unit}')
  await expect(address).toContainText('No level may begin with a dot')
  await path.fill('kiln/{unit}/{time.year}')
  await goLive(page)
  await expect(page.locator('[data-state="live"]')).toContainText('version 1')
  await page.goto('/proof')
  const line = page.locator('[data-line="Zone 6, in files"]')
  await expect.poll(async () => Number((await line.locator('[data-count="arrived"]').textContent())?.replace(/\D/g, ''))).toBeGreaterThanOrEqual(3)
  await expect(line.locator('[data-count="missing"]')).toHaveText('0')
  const year = String(new Date().getUTCFullYear())
  const files = readdirSync(join(lake, 'kiln/zone-6')).filter((name) => name.startsWith(`${year}.`))
  expect(files.length).toBeGreaterThan(1)
  expect(readFileSync(join(lake, 'kiln/zone-6', files[0]!), 'utf8')).toMatch(/^embrik_id,.*temperature.*\r\n\w+\.\d+\.\d+,/)
})

test('an object store: its check names a secret that is wrong and a store without room, and both are mended in the form', async ({ page }) => {
  const { id } = await api<{ id: string }>('POST', '/api/credentials', {
    name: 'Lake key with a slip',
    kind: 'password',
    user: 'embrik',
    password: `${objectKeys.embrik.secret}x`,
    places: [objectsUrl],
  })
  try {
    await logIn(page)
    await page.goto('/destinations?add')
    const form = page.getByRole('dialog')
    await form.getByLabel('Kind').selectOption({ label: 'Files' })
    await form.getByLabel('Name', { exact: true }).fill('Store by hand')
    await form.getByLabel('Kept in').selectOption('objects')
    await form.getByLabel('Address', { exact: true }).fill(objectsUrl)
    await form.getByLabel('Bucket', { exact: true }).fill(objectBucket)
    await form.getByLabel('Folder', { exact: true }).fill('lake/by-hand')
    await form.getByLabel('Trusted authority').selectOption({ label: 'Varnmoor Works Authority' })
    await form.getByLabel('Access key', { exact: true }).selectOption({ label: 'Lake key with a slip' })
    await form.getByLabel('Witness access key').selectOption({ label: 'Witness at the works lake' })
    const step = (key: string) => page.locator(`[data-step="${key}"]`)
    const check = form.getByRole('button', { name: /^Check (the connection|again)$/ })
    await check.click()
    await expect(step('bucket')).toHaveAttribute('data-state', 'failed')
    await expect(step('bucket')).toContainText('the signature is wrong')
    await form.getByLabel('Access key', { exact: true }).selectOption({ label: 'Embrik at the works lake' })
    await faults({ full: true })
    await check.click()
    await expect(step('write')).toHaveAttribute('data-state', 'failed')
    await expect(step('write')).toContainText('no room left')
    await faults({})
    await check.click()
    await expect(step('witness')).toHaveAttribute('data-state', 'passed')
  } finally {
    await faults({})
    await api('DELETE', `/api/credentials/${id}`)
  }
})
