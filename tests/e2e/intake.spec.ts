import { execFileSync } from 'node:child_process'
import { mkdtempSync, readFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type { Page } from '@playwright/test'
import type { Credential } from '~/contract/credential'
import type { Destination } from '~/contract/destination'
import { api, demo, expect, logIn, test } from './support'

const pki = (file: string) => readFileSync(join(demo, 'pki', file))
const file = (name: string, buffer: Buffer) => ({ name, mimeType: 'application/octet-stream', buffer })
const sheet = (page: Page) => page.getByRole('dialog', { name: 'Take in what you were handed' })
const found = (page: Page, what: string) => sheet(page).getByRole('table', { name: 'Found' }).getByRole('row', { name: what })

async function forget(...names: string[]): Promise<void> {
  for (const c of await api<Credential[]>('GET', '/api/credentials')) if (names.includes(c.name)) await api('DELETE', `/api/credentials/${c.id}`)
}

test('three files with wrong names and a letter fill the form of a destination', async ({ page }) => {
  const site = (await api<Destination[]>('GET', '/api/destinations')).find((d) => d.kind === 'mqtt')!
  if (site.kind !== 'mqtt') throw new Error('no broker')
  await logIn(page, 'administrator')
  await page.goto('/destinations')
  await page.getByRole('button', { name: 'Add destination' }).click()
  const form = page.getByRole('dialog')
  await form.getByLabel('Name', { exact: true }).fill('Handed over')
  await form.getByRole('button', { name: 'Take in what you were handed' }).click()

  // The names of the files say nothing true.
  const files = [file('ca.pem', pki('reader.key.pem')), file('key.pem', pki('ca.pem')), file('notes.txt', pki('reader.cert.pem'))]
  await sheet(page).getByLabel('Files', { exact: true }).setInputFiles(files)
  await sheet(page)
    .getByLabel('Text')
    .fill(`Good morning Ines,\n\nthe broker is mqtts://127.0.0.1:${site.settings.port}. Your client id: handed-7\n\nRegards, Odo`)
  await expect(found(page, 'certificate with its key')).toContainText('notes.txt')
  await expect(found(page, 'taken authority')).toContainText('key.pem')
  await expect(found(page, 'handed-7')).toBeVisible()
  await expect(sheet(page)).not.toContainText('PRIVATE KEY')
  // Nothing of it is kept when one thing of it cannot be.
  const text = await sheet(page).getByLabel('Text').inputValue()
  await sheet(page)
    .getByLabel('Text')
    .fill(`${text}\nuser: ${'k'.repeat(300)}\npassword: Glaze-and-slip-7`)
  await sheet(page).getByRole('button', { name: 'Keep all 2' }).click()
  await expect(sheet(page).getByRole('alert')).toContainText('The user cannot be kept so')
  await sheet(page).getByLabel('Text').fill(text)
  await sheet(page).getByLabel('Name of the certificate with its key').fill('Handed reader')
  // The demo trusts this authority already: it is not kept twice.
  await expect(sheet(page)).toContainText('is kept already: Varnmoor Works Authority')
  await sheet(page).getByRole('button', { name: 'Keep it' }).click()

  await expect(form.getByLabel('Host', { exact: true })).toHaveValue('127.0.0.1')
  await expect(form.getByLabel('Port', { exact: true })).toHaveValue(String(site.settings.port))
  await expect(form.getByLabel('Client id', { exact: true })).toHaveValue('handed-7')
  const all = await api<Credential[]>('GET', '/api/credentials')
  for (const [field, name] of [
    ['Trusted authority', 'Varnmoor Works Authority'],
    ['Certificate or log-in', 'Handed reader'],
  ] as const)
    await expect(form.getByLabel(field, { exact: true })).toHaveValue(all.find((c) => c.name === name)!.id)
  await page.keyboard.press('Escape')
  await page.getByRole('button', { name: 'Throw it away' }).click()
  await forget('Handed reader')
})

test('a store asks for its pass phrase, a name that is taken is told beside it, and what is kept has its chain', async ({ page }) => {
  const folder = mkdtempSync(join(tmpdir(), 'embrik-handed-'))
  const store = join(folder, 'device.p12')
  const made = ['-inkey', join(demo, 'pki', 'reader.key.pem'), '-in', join(demo, 'pki', 'reader.cert.pem'), '-certfile', join(demo, 'pki', 'ca.pem')]
  execFileSync('openssl', ['pkcs12', '-export', ...made, '-passout', 'pass:glaze and slip', '-out', store])
  await api('POST', '/api/credentials', { kind: 'password', name: 'Taken name', user: 'nobody', password: 'nothing' })
  await logIn(page, 'administrator')
  await page.goto('/destinations/credentials')
  await page.getByRole('button', { name: 'Take in' }).click()
  await sheet(page).getByLabel('Files', { exact: true }).setInputFiles(store)
  await expect(found(page, 'store of keys')).toContainText('asks for a pass phrase')
  await expect(sheet(page).getByRole('button', { name: 'Keep it' })).toBeDisabled()
  const phrase = sheet(page).getByLabel('Pass phrase', { exact: true })
  await phrase.fill('slip')
  await page.keyboard.press('Enter')
  await expect(found(page, 'store of keys')).toContainText('none of the pass phrases opens it')
  await phrase.fill('glaze and slip')
  await page.keyboard.press('Enter')
  await expect(found(page, 'certificate with its key')).toBeVisible()

  await sheet(page).getByRole('checkbox', { name: /^Use / }).uncheck()
  const name = sheet(page).getByLabel('Name of the certificate with its key')
  await name.fill('Taken name')
  await sheet(page).getByRole('button', { name: 'Keep it' }).click()
  await expect(sheet(page).getByRole('alert')).toHaveText('Another credential is called Taken name')
  await name.fill('From a store')
  await sheet(page).getByRole('button', { name: 'Keep it' }).click()
  await expect(page.getByRole('heading', { name: 'From a store' })).toBeVisible()
  await forget('From a store', 'Taken name')
})

test('an address alone fills the form of a source, over what stood there', async ({ page }) => {
  await logIn(page, 'administrator')
  await page.goto('/sources')
  await page.getByRole('button', { name: 'Add source' }).click()
  const form = page.getByRole('dialog')
  await form.getByRole('button', { name: /^MQTT/ }).click()
  await form.getByRole('button', { name: 'Take in what you were handed' }).click()
  await sheet(page).getByLabel('Text').fill('{"broker": {"url": "mqtt://10.9.8.7:1884"}, "clientId": "collector-3"}')
  await expect(found(page, 'collector-3')).toBeVisible()
  await sheet(page).getByRole('button', { name: 'Go on with it' }).click()
  await expect(form.getByLabel('Host', { exact: true })).toHaveValue('10.9.8.7')
  await expect(form.getByLabel('Port', { exact: true })).toHaveValue('1884')
  await expect(form.getByLabel('TLS', { exact: true })).not.toBeChecked()
  await expect(form.getByLabel('Client id', { exact: true })).toHaveValue('collector-3')
  await page.keyboard.press('Escape')
  await page.getByRole('button', { name: 'Throw it away' }).click()
})
