import { readFileSync } from 'node:fs'
import type { Page } from '@playwright/test'
import type { Credential } from '~/contract/credential'
import type { Destination } from '~/contract/destination'
import type { Publication } from '~/contract/publication'
import { api, expect, logIn, test } from './support'

const base = Number(process.env.EMBRIK_E2E_BASE ?? 5600)

/** Registers a unit at the page of a hub's registry, as its people do; gives what that page hands out. */
async function registered(page: Page, port: number, unit: string): Promise<{ text: string } | { kit: { name: string; buffer: Buffer } }> {
  await page.goto(`http://127.0.0.1:${port}/`)
  await page.getByLabel('Name of the unit').fill(unit)
  await page.getByRole('button', { name: 'Register unit' }).click()
  const text = page.getByLabel('Connection text')
  const kit = page.getByRole('link', { name: 'Download the kit' })
  await expect(text.or(kit)).toBeVisible()
  if (await text.isVisible()) return { text: await text.inputValue() }
  const download = page.waitForEvent('download')
  await kit.click()
  const file = await download
  return { kit: { name: file.suggestedFilename(), buffer: readFileSync((await file.path())!) } }
}

for (const [name, port, profile] of [
  ['Tarn', base + 19, 'Tarn, by token'],
  ['Fell', base + 21, 'Fell, by certificate'],
] as const)
  test(`from the registry of the ${name} hub to confirmed messages: what it hands out is pasted or dropped whole`, async ({ page }) => {
    test.setTimeout(240_000)
    const unit = `dryer-${name.toLowerCase()}`
    const handed = await registered(page, port, unit)
    if (name === 'Fell')
      await fetch(`http://127.0.0.1:${port}/api/units/${unit}/aliases`, { method: 'POST', body: JSON.stringify({ alias: 'chamber' }) })
    await logIn(page, 'administrator')
    await page.goto('/destinations')
    await page.getByRole('button', { name: 'Add destination' }).click()
    const form = page.getByRole('dialog', { name: 'Add a destination' })
    await form.getByLabel('Kind').selectOption('Cloud hub')
    await form.getByLabel('Profile', { exact: true }).selectOption(profile)
    await form.getByLabel('Name', { exact: true }).fill(`${name} hub`)
    await form.getByRole('button', { name: 'Take in what you were handed' }).click()
    const sheet = page.getByRole('dialog', { name: 'Take in what you were handed' })
    if ('text' in handed) await sheet.getByLabel('Text').fill(handed.text)
    else await sheet.getByLabel('Files', { exact: true }).setInputFiles({ ...handed.kit, mimeType: 'application/zip' })
    await sheet.getByRole('button', { name: 'Keep all 3' }).click()
    await expect(form.getByLabel('Device identity')).toHaveValue(unit)
    await form.getByRole('button', { name: 'Check the connection' }).click()
    await expect(form.locator('[data-step="events-witness"]')).toHaveAttribute('data-state', 'passed', { timeout: 60_000 })
    for (const step of ['name', 'port', 'tls', 'login']) await expect(form.locator(`[data-step="${step}"]`)).toHaveAttribute('data-state', 'passed')
    await form.getByRole('button', { name: 'Add destination' }).click()
    await expect(form).toBeHidden()

    // A publication that is there, under another name, to the hub.
    const destination = (await api<Destination[]>('GET', '/api/destinations')).find((d) => d.name === `${name} hub`)!
    const [like] = (await api<Publication[]>('GET', '/api/publications')).filter((p) => p.state === 'live' && p.address.kind === 'mqtt')
    const { equipmentIds, shape, steersOnly } = like!
    const made = await api<Publication>('POST', '/api/publications', {
      ...{ name: `To the ${name} hub`, equipmentIds: equipmentIds.slice(0, 1), shape, steersOnly },
      trigger: { kind: 'every', seconds: 1 },
      destinationId: destination.id,
      address: { kind: 'hub', topic: name === 'Fell' ? 'chamber' : '{path}/state', topicRule: 'slug', headers: [], contentType: '', qos: 1 },
    })
    await api('POST', `/api/publications/${made.id}/live`, { version: made.version })
    await page.goto('/proof')
    const line = page.locator(`[data-line="To the ${name} hub"]`)
    await expect
      .poll(async () => Number((await line.locator('[data-count="arrived"]').textContent())?.replace(/\D/g, '')), { timeout: 60_000 })
      .toBeGreaterThanOrEqual(3)
    await expect(line.locator('[data-count="missing"]')).toHaveText('0')
    // The hub says the same.
    const { taken, connected } = (await (await fetch(`http://127.0.0.1:${port}/api/units/${unit}`)).json()) as { taken: number; connected: boolean }
    expect(connected).toBe(true)
    expect(taken).toBeGreaterThan(0)
    const kept = await api<Credential[]>('GET', '/api/credentials')
    expect(JSON.stringify(kept)).not.toMatch(/UnitKey|PRIVATE KEY|clay-events-9/)

    await api('POST', `/api/publications/${made.id}/pause`, {})
    await api('DELETE', `/api/publications/${made.id}`)
    await api('DELETE', `/api/destinations/${destination.id}`)
    for (const c of await api<Credential[]>('GET', '/api/credentials'))
      if (
        c.usedBy.length === 0 &&
        [destination.settings.credentialId, destination.settings.authorityId, destination.settings.witnessCredentialId].includes(c.id)
      )
        await api('DELETE', `/api/credentials/${c.id}`)
  })

test('a profile is typed from the documents of any hub, with what it gives beside it; it is saved as a file and opened again', async ({ page }) => {
  await logIn(page, 'administrator')
  await page.goto('/destinations')
  await page.getByRole('button', { name: 'Add destination' }).click()
  const form = page.getByRole('dialog', { name: 'Add a destination' })
  await form.getByLabel('Kind').selectOption('Cloud hub')
  await form.getByLabel('Device identity').fill('press-edge')
  // A key that is typed by hand makes tokens as the profile has it.
  await form.getByRole('button', { name: 'Add a key, certificate or log-in' }).click()
  const adding = page.getByRole('dialog', { name: 'Add a credential' })
  await expect(adding.getByLabel('Signed text')).toHaveValue('{identity}|{host}|{ends}')
  await expect(adding.getByLabel('User', { exact: true })).toHaveValue('{identity}@{host}')
  await adding.getByRole('button', { name: 'Cancel' }).click()
  await form.getByLabel('Profile', { exact: true }).selectOption('Another hub')
  await form.getByRole('button', { name: 'Edit profile' }).click()
  const sheet = page.getByRole('dialog', { name: 'Hub profile' })
  await sheet.getByLabel('Profile name').fill('Works cloud')
  await sheet.getByLabel('Topic', { exact: true }).fill('units/{unt}/{place}')
  await expect(sheet).toContainText('{unt} is not known')
  await expect(sheet.getByRole('region', { name: 'What the profile gives' })).toHaveCount(0)
  await expect(sheet.getByRole('button', { name: 'Save as a file' })).toBeDisabled()
  await sheet.getByLabel('Topic', { exact: true }).fill('units/{unit}/{place}')
  await sheet.getByLabel('Log-in by').selectOption('a token from a key')
  await sheet.getByLabel('Messages a second').fill('20')
  const gives = sheet.getByRole('region', { name: 'What the profile gives' })
  await expect(gives).toContainText('units/press-edge/firing/zone-1')
  await expect(gives).toContainText('up to 20')
  const saved = page.waitForEvent('download')
  await sheet.getByRole('button', { name: 'Save as a file' }).click()
  const path = (await (await saved).path())!
  const written = JSON.parse(readFileSync(path, 'utf8'))
  expect(written).toMatchObject({ name: 'Works cloud', topic: 'units/{unit}/{place}', perSecond: 20, token: { form: 'hmac' } })
  const json = (name: string, text: string) => ({ name, mimeType: 'application/json', buffer: Buffer.from(text) })
  await sheet.getByLabel('Profile file').setInputFiles(json('other.json', '{"name":"x"}'))
  await expect(sheet).toContainText('topic is missing in it')
  await sheet.getByLabel('Profile file').setInputFiles(json('works.json', JSON.stringify({ ...written, name: 'From a file' })))
  await expect(sheet.getByLabel('Profile name')).toHaveValue('From a file')
  await sheet.getByRole('button', { name: 'Use this profile' }).click()
  await expect(sheet).toBeHidden()
  await expect(form.getByLabel('Profile', { exact: true })).toHaveValue('From a file')
  await expect(form.getByRole('region', { name: 'What the profile gives' })).toContainText('units/press-edge/')
})
