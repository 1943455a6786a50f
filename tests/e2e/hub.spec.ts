import { readFileSync } from 'node:fs'
import type { Locator, Page } from '@playwright/test'
import type { Credential } from '~/contract/credential'
import type { Destination } from '~/contract/destination'
import type { Publication } from '~/contract/publication'
import { api, expect, goLive, logIn, test } from './support'

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

const LIKE = 'Kiln zones, each change'

/** Hands over what was handed out: text is pasted, a file is dropped onto the form. */
async function handOver(page: Page, form: Locator, handed: Awaited<ReturnType<typeof registered>>): Promise<void> {
  if ('text' in handed) {
    await page.context().grantPermissions(['clipboard-read', 'clipboard-write'])
    await page.evaluate((text) => navigator.clipboard.writeText(text), handed.text)
    return page.keyboard.press('Control+v')
  }
  const { name, buffer } = handed.kit
  await form.getByLabel('Name', { exact: true }).evaluate(
    (field, file) => {
      const data = new DataTransfer()
      data.items.add(new File([Uint8Array.from(atob(file.base64), (c) => c.charCodeAt(0))], file.name, { type: 'application/zip' }))
      field.dispatchEvent(new DragEvent('drop', { dataTransfer: data, bubbles: true, cancelable: true }))
    },
    { name, base64: buffer.toString('base64') },
  )
}

for (const [name, port, profile] of [
  ['Tarn', base + 19, 'Tarn, by token'],
  ['Fell', base + 21, 'Fell, by certificate'],
] as const)
  test(`from the registry of the ${name} hub to confirmed messages in eight actions: what it hands out is pasted or dropped whole`, async ({
    page,
  }) => {
    test.setTimeout(240_000)
    const unit = `dryer-${name.toLowerCase()}`
    const handed = await registered(page, port, unit)
    if (name === 'Fell')
      for (let zone = 1; zone <= 12; zone++)
        await fetch(`http://127.0.0.1:${port}/api/units/${unit}/aliases`, { method: 'POST', body: JSON.stringify({ alias: `zone-${zone}` }) })
    await logIn(page, 'administrator')
    await page.goto('/destinations')
    let actions = 0
    const act = async (done: Promise<unknown>) => {
      actions++
      await done
    }
    await act(page.getByRole('button', { name: 'Add destination' }).click())
    const form = page.getByRole('dialog', { name: 'Add a destination' })
    await expect(form.getByLabel('Name', { exact: true })).toBeVisible()
    await act(handOver(page, form, handed))
    const sheet = page.getByRole('dialog', { name: 'Take in what you were handed' })
    await act(sheet.getByRole('button', { name: 'Keep all 2' }).click())
    // Whose hand-out it is can be seen from it: the form of a hub is there, and the profile by which one can log in.
    await expect(form.getByLabel('Kind')).toHaveValue('hub')
    await expect(form.getByLabel('Device identity')).toHaveValue(unit)
    await expect(form.getByLabel('Profile', { exact: true })).toHaveValue(profile)
    await expect(form.getByLabel('Name', { exact: true })).toHaveValue(`${unit} at 127.0.0.1`)
    await act(form.getByRole('button', { name: 'Check the connection' }).click())
    await expect(form.locator('[data-step="events-witness"]')).toHaveAttribute('data-state', 'passed', { timeout: 60_000 })
    for (const step of ['name', 'port', 'tls', 'login']) await expect(form.locator(`[data-step="${step}"]`)).toHaveAttribute('data-state', 'passed')
    await act(form.getByRole('button', { name: 'Add destination' }).click())
    await expect(form).toBeHidden()
    await act(page.getByRole('button', { name: 'Publish to it' }).click())
    await act(page.getByLabel('Begin like').selectOption(LIKE))
    await expect(page.getByLabel('Name', { exact: true })).toHaveValue(`${LIKE} to ${unit} at 127.0.0.1`)
    // Where a sensor of the plant happens to be broken just then, that is lived with; nothing else is to be accepted.
    await act(goLive(page, /^Accept: (Bad|Uncertain|Stale) now/))
    await expect(page.locator('[data-state="live"]')).toContainText('version 1')
    expect(actions).toBeLessThanOrEqual(8)

    const destination = (await api<Destination[]>('GET', '/api/destinations')).find((d) => d.name === `${unit} at 127.0.0.1`)!
    const [made] = (await api<Publication[]>('GET', '/api/publications')).filter((p) => p.destinationId === destination.id)
    await page.goto('/proof')
    const line = page.locator(`[data-line="${made!.name}"]`)
    await expect
      .poll(async () => Number((await line.locator('[data-count="arrived"]').textContent())?.replace(/\D/g, '')), { timeout: 60_000 })
      .toBeGreaterThanOrEqual(3)
    await expect(line.locator('[data-count="missing"]')).toHaveText('0')
    // The hub says the same, and so does Embrik of it.
    const { taken, connected } = (await (await fetch(`http://127.0.0.1:${port}/api/units/${unit}`)).json()) as { taken: number; connected: boolean }
    expect(connected).toBe(true)
    expect(taken).toBeGreaterThan(0)
    const kept = await api<Credential[]>('GET', '/api/credentials')
    expect(JSON.stringify(kept)).not.toMatch(/UnitKey|PRIVATE KEY|clay-events-9/)

    await api('POST', `/api/publications/${made!.id}/pause`, {})
    await api('DELETE', `/api/publications/${made!.id}`)
    await api('DELETE', `/api/destinations/${destination.id}`)
    for (const c of await api<Credential[]>('GET', '/api/credentials'))
      if (
        c.usedBy.length === 0 &&
        [destination.settings.credentialId, destination.settings.authorityId, destination.settings.witnessCredentialId].includes(c.id)
      )
        await api('DELETE', `/api/credentials/${c.id}`)
  })

test('what a hub knows of this sender itself stands beside its destination: connected, taken, quota, and what it rejected and why', async ({
  page,
}) => {
  const registry = `http://127.0.0.1:${base + 21}/api/units/works-edge`
  await logIn(page, 'viewer')
  await page.goto('/destinations')
  await page.getByRole('row', { name: /Fell hub/ }).click()
  const view = page.getByRole('region', { name: 'What it says itself' })
  await expect(view).toContainText('Connected')
  await expect(view).toContainText('Taken')
  await fetch(`${registry}/limits`, { method: 'PUT', body: JSON.stringify({ payloadOctets: 20, perDay: 100_000 }) })
  try {
    await expect(view.getByRole('list', { name: 'What it rejected' })).toContainText('octets; 20 are taken', { timeout: 60_000 })
    await expect(view).toContainText('of 100,000')
  } finally {
    await fetch(`${registry}/limits`, { method: 'PUT', body: JSON.stringify({ payloadOctets: 65_536, perDay: null }) })
  }
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
