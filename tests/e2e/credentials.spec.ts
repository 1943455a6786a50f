import { execFileSync } from 'node:child_process'
import { mkdtempSync, readFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type { Page } from '@playwright/test'
import type { AuditRow } from '~/contract/audit'
import type { Credential } from '~/contract/credential'
import type { Destination } from '~/contract/destination'
import { Maker } from '../kits/make'
import { api, demo, expect, logIn, people, test } from './support'

const pki = (file: string) => readFileSync(join(demo, 'pki', file))
const file = (name: string, buffer: Buffer) => ({ name, mimeType: 'application/octet-stream', buffer })
const all = () => api<Credential[]>('GET', '/api/credentials')
const peek = (page: Page) => page.getByRole('complementary', { name: 'Peek' })

/** The site broker, and the certificate by which Embrik writes there. */
async function atTheBroker(): Promise<{ broker: Destination; sender: Credential }> {
  const broker = (await api<Destination[]>('GET', '/api/destinations')).find((d) => d.kind === 'mqtt')!
  return { broker, sender: (await all()).find((c) => c.id === broker.settings.credentialId)! }
}

test('what ends when stands on one line of time, the soonest first, with what stops then', async ({ page }) => {
  const { sender } = await atTheBroker()
  await logIn(page)
  await page.goto('/destinations/credentials')
  await page.getByRole('button', { name: 'What ends when' }).click()
  const line = page.getByRole('grid', { name: 'What ends when' })
  const row = line.getByRole('row', { name: sender.name })
  await expect(row).toContainText(sender.endsAt!.slice(0, 10))
  await expect(row).toContainText('publication')
  const ends = await line.getByRole('row').evaluateAll((rows) => rows.slice(1).map((r) => /\d{4}-\d\d-\d\d/.exec(r.textContent ?? '')?.[0] ?? ''))
  expect(ends).toEqual([...ends].sort())
  await row.click()
  await expect(peek(page).getByRole('heading', { level: 2 })).toHaveText(sender.name)
  await expect(page).toHaveURL(new RegExp(`view=ends.*id=${sender.id}`))
  await page.reload()
  await expect(line.getByRole('row', { name: sender.name })).toHaveAttribute('aria-selected', 'true')
})

test('a certificate is replaced in place: one that nobody knows is found out first, the right one is taken up, and put back', async ({ page }) => {
  test.setTimeout(300_000)
  const { broker, sender } = await atTheBroker()
  const m = new Maker()
  m.certificate('stranger')
  await logIn(page, 'administrator')
  await page.goto(`/destinations/credentials?id=${sender.id}`)
  await peek(page).getByRole('button', { name: 'Replace' }).click()
  const sheet = page.getByRole('dialog', { name: `Replace ${sender.name}` })
  const files = sheet.getByLabel('Files', { exact: true })
  await files.setInputFiles([file('a.pem', Buffer.from(m.text('stranger.crt'))), file('b.pem', Buffer.from(m.text('stranger.key')))])
  await expect(sheet.getByRole('table', { name: 'Old and new' })).toContainText('stranger')
  await expect(sheet).toContainText('It is for another name')
  const tried = sheet.getByRole('list', { name: 'Tried with' }).getByRole('listitem').filter({ hasText: broker.name })
  await sheet.getByRole('button', { name: 'Check and replace' }).click()
  await expect(tried).toHaveAttribute('data-outcome', 'failed', { timeout: 90_000 })
  await expect(sheet.getByRole('button', { name: 'Replace all the same' })).toBeEnabled()
  expect((await all()).find((c) => c.id === sender.id)!.before).toBeNull()

  await sheet.getByRole('button', { name: 'Leave out a.pem' }).click()
  await sheet.getByRole('button', { name: 'Leave out b.pem' }).click()
  await files.setInputFiles([file('c.pem', pki('embrik-next.cert.pem')), file('d.pem', pki('embrik-next.key.pem'))])
  await expect(sheet.getByRole('table', { name: 'Old and new' })).toContainText('CN=embrik')
  await sheet.getByRole('button', { name: 'Check and replace' }).click()
  await expect(page.getByText(`${sender.name} is replaced`)).toBeVisible({ timeout: 180_000 })
  await expect(peek(page)).toContainText('is kept until you are sure of the new one')
  const now = (await all()).find((c) => c.id === sender.id)!
  expect(now.facts!.sha256).not.toBe(sender.facts!.sha256)
  expect(now.before!.facts!.sha256).toBe(sender.facts!.sha256)
  await expect(
    peek(page).getByRole('list', { name: 'Used by' }).getByRole('listitem').filter({ hasText: broker.name }).getByRole('img'),
  ).toHaveAttribute('aria-label', 'running')

  await peek(page).getByRole('button', { name: 'Put it back' }).click()
  await expect(page.getByText('The one before is back')).toBeVisible()
  expect((await all()).find((c) => c.id === sender.id)!.facts!.sha256).toBe(sender.facts!.sha256)
  await peek(page).getByRole('button', { name: 'Remove the one before' }).click()
  await page.getByRole('alertdialog').getByRole('button', { name: 'Remove the one before' }).click()
  await expect(page.getByText('The one before is gone')).toBeVisible()
  await expect(peek(page).getByRole('button', { name: 'Replace' })).toBeEnabled()
})

test('a password is replaced by typing it', async ({ page }) => {
  const kept = await api<Credential>('POST', '/api/credentials', {
    kind: 'password',
    name: 'To be renewed',
    user: 'kiln-7',
    password: 'Glaze-and-slip-7',
  })
  await logIn(page, 'administrator')
  await page.goto(`/destinations/credentials?id=${kept.id}`)
  await peek(page).getByRole('button', { name: 'Replace' }).click()
  const sheet = page.getByRole('dialog')
  await sheet.getByLabel('New password').fill('Mica-and-frit-8')
  await sheet.getByRole('button', { name: 'Replace', exact: true }).click()
  await expect(peek(page)).toContainText('The one before, of user kiln-7, is kept')
  await api('DELETE', `/api/credentials/${kept.id}`)
})

test('what was handed over is dropped or pasted onto the form itself', async ({ page }) => {
  await logIn(page, 'administrator')
  await page.goto('/destinations?add')
  const form = page.getByRole('dialog')
  const sheet = page.getByRole('dialog', { name: 'Take in what you were handed' })
  const hand = (kind: 'drop' | 'paste', text: string) =>
    form.getByLabel('Host', { exact: true }).evaluate(
      (field, o) => {
        const data = new DataTransfer()
        if (o.kind === 'paste') data.setData('text/plain', o.text)
        else data.items.add(new File([o.text], 'kit.txt'))
        const event =
          o.kind === 'paste'
            ? new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true })
            : new DragEvent('drop', { dataTransfer: data, bubbles: true, cancelable: true })
        field.dispatchEvent(event)
      },
      { kind, text },
    )
  await hand('drop', 'host = hub.varnmoor.example\nclient id = kiln-7')
  await expect(sheet.getByRole('table', { name: 'Found' })).toContainText('hub.varnmoor.example')
  await expect(sheet.getByRole('list', { name: 'Files that were chosen' })).toContainText('kit.txt')
  await sheet.getByRole('button', { name: 'Go on with it' }).click()
  await expect(form.getByLabel('Host', { exact: true })).toHaveValue('hub.varnmoor.example')

  await hand('paste', 'HostName=other.varnmoor.example;DeviceId=kiln-8;Port=8884')
  await expect(sheet.getByLabel('Text')).toHaveValue(/other\.varnmoor\.example/)
  await sheet.getByRole('button', { name: 'Go on with it' }).click()
  await expect(form.getByLabel('Host', { exact: true })).toHaveValue('other.varnmoor.example')
  await expect(form.getByLabel('Client id', { exact: true })).toHaveValue('kiln-8')

  // What belongs into a field goes there.
  await page.context().grantPermissions(['clipboard-read', 'clipboard-write'])
  await page.evaluate(() => navigator.clipboard.writeText('10.9.8.7'))
  await form.getByLabel('Host', { exact: true }).fill('')
  await page.keyboard.press('Control+v')
  await expect(form.getByLabel('Host', { exact: true })).toHaveValue('10.9.8.7')
  await expect(sheet).toBeHidden()
  await page.keyboard.press('Escape')
  await page.getByRole('button', { name: 'Throw it away' }).click()
})

test('a key leaves locked, for who types the own password again, and the audit tells it', async ({ page }) => {
  const { sender } = await atTheBroker()
  await logIn(page, 'administrator')
  await page.goto(`/destinations/credentials?id=${sender.id}`)
  await peek(page).getByRole('button', { name: 'Take out key' }).click()
  const sheet = page.getByRole('dialog')
  await sheet.getByRole('button', { name: 'Store (PKCS#12)' }).click()
  await sheet.getByLabel('Pass phrase').fill('short')
  await sheet.getByLabel('Your password').fill('not mine at all')
  await sheet.getByRole('button', { name: 'Take out key' }).click()
  await expect(sheet.getByRole('alert')).toHaveText('At least 8 characters')
  await sheet.getByLabel('Pass phrase').fill('glaze and slip')
  await sheet.getByRole('button', { name: 'Take out key' }).click()
  await expect(sheet.getByRole('alert')).toHaveText('This is not your password')
  await sheet.getByLabel('Your password').fill(people.administrator[1])
  const [download] = await Promise.all([page.waitForEvent('download'), sheet.getByRole('button', { name: 'Take out key' }).click()])
  const folder = mkdtempSync(join(tmpdir(), 'embrik-taken-'))
  const [store, key] = [join(folder, download.suggestedFilename()), join(folder, 'key.pem')]
  await download.saveAs(store)
  execFileSync('openssl', ['pkcs12', '-in', store, '-passin', 'pass:glaze and slip', '-nodes', '-nocerts', '-out', key])
  const shown = (pem: string) => execFileSync('openssl', ['pkey', '-in', pem, '-pubout']).toString()
  expect(shown(key)).toBe(shown(join(demo, 'pki', 'embrik.key.pem')))
  const [told] = (await api<AuditRow[]>('GET', '/api/audit?text=takeOutKey')).filter((row) => row.act === 'takeOutKey')
  expect(told).toMatchObject({ subject: sender.name, after: { key: 'taken out', form: 'pkcs12' }, via: 'session' })
  expect(JSON.stringify(told)).not.toContain('glaze and slip')
})

test('an authority of the plant is made, signs a certificate, takes it back; a signing request is answered by somebody else', async ({ page }) => {
  await logIn(page, 'administrator')
  await page.goto('/destinations/credentials')
  const sheet = page.getByRole('dialog')
  const title = peek(page).getByRole('heading', { level: 2 })
  await page.getByRole('button', { name: 'Make', exact: true }).click()
  await sheet.getByRole('button', { name: 'Authority of the plant' }).click()
  await sheet.getByLabel('Name', { exact: true }).fill('Press hall authority')
  await sheet.getByRole('button', { name: 'Make authority' }).click()
  await expect(title).toHaveText('Press hall authority')
  await expect(peek(page)).toContainText('nothing yet')

  await page.getByRole('button', { name: 'Make', exact: true }).click()
  await sheet.getByLabel('Name', { exact: true }).fill('Press 1')
  await sheet.getByLabel('For', { exact: true }).selectOption('both')
  await sheet.getByRole('button', { name: 'Make certificate' }).click()
  await expect(sheet.getByRole('alert')).toHaveText('Under which names or addresses is the server reached?')
  await sheet.getByLabel('Hosts').fill('press-1.varnmoor.example, 10.0.0.71')
  await sheet.getByLabel('Good for').fill('9999')
  await sheet.getByRole('button', { name: 'Make certificate' }).click()
  await expect(sheet.getByRole('alert')).toContainText('3650')
  await sheet.getByLabel('Good for').fill('200')
  await sheet.getByRole('button', { name: 'Make certificate' }).click()
  await expect(title).toHaveText('Press 1')
  await expect(peek(page)).toContainText('press-1.varnmoor.example')

  await page.getByRole('grid', { name: 'Credentials' }).getByRole('row', { name: 'Press hall authority' }).click()
  const signed = peek(page).getByRole('list', { name: 'Signed by it' }).getByRole('listitem')
  await signed.getByRole('button', { name: 'Take back' }).click()
  await page.getByRole('alertdialog').getByRole('button', { name: 'Take back certificate' }).click()
  await expect(signed).toContainText('taken back 20')
  await expect(peek(page)).toContainText('Revocation list')

  await page.getByRole('button', { name: 'Make', exact: true }).click()
  await sheet.getByRole('button', { name: 'Signing request' }).click()
  await sheet.getByLabel('Name', { exact: true }).fill('Press 2')
  await sheet.getByRole('button', { name: 'Make signing request' }).click()
  await expect(title).toHaveText('Press 2')
  const [download] = await Promise.all([page.waitForEvent('download'), peek(page).getByRole('button', { name: 'Save request' }).click()])
  expect(download.suggestedFilename()).toBe('press-2.csr')
  const m = new Maker()
  m.certificate('their-root', { extensions: 'basicConstraints=critical,CA:TRUE' })
  await download.saveAs(m.at('wanted.csr'))
  m.openssl(
    'x509',
    '-req',
    '-in',
    'wanted.csr',
    '-CA',
    'their-root.crt',
    '-CAkey',
    'their-root.key',
    '-CAcreateserial',
    '-days',
    '90',
    '-out',
    'answer.crt',
  )
  await peek(page).getByRole('button', { name: 'Take in the answer' }).click()
  await sheet.getByLabel('Files', { exact: true }).setInputFiles([file('other.crt', Buffer.from(m.text('their-root.crt')))])
  await sheet.getByRole('button', { name: 'Take in the answer' }).click()
  await expect(page.getByText('No certificate in it belongs to this request')).toBeVisible()
  await sheet.getByLabel('Files', { exact: true }).setInputFiles([file('answer.crt', Buffer.from(m.text('answer.crt')))])
  await sheet.getByRole('button', { name: 'Take in the answer' }).click()
  await expect(page.getByText('Press 2 is a certificate now')).toBeVisible()
  await expect(peek(page)).toContainText('certificate and key')
  for (const c of await all()) if (/^Press /.test(c.name)) await api('DELETE', `/api/credentials/${c.id}`)
})

test('a key from which tokens are made: what is wrong is said at its line, what it gives is shown without the key, a change asks for it again', async ({
  page,
}) => {
  const key = Buffer.from('not a key of anybody, 32 octets!').toString('base64')
  await logIn(page, 'administrator')
  await page.goto('/destinations/credentials')
  await page.getByRole('button', { name: 'Add credential' }).click()
  const sheet = page.getByRole('dialog', { name: 'Add a credential' })
  await sheet.getByRole('button', { name: 'Tokens from a key' }).click()
  await sheet.getByLabel('Name', { exact: true }).fill('Key of the kiln edge')
  await sheet.getByLabel('Signed by').selectOption('HS256')
  await sheet.getByLabel('Claims').fill('sub: {identity}\naud: {hots}')
  await expect(sheet).toContainText('Line 2: {hots} is not known')
  await sheet.getByLabel('Claims').fill('sub: {identity}\naud: {host}\nexp: {ends}')
  await expect(sheet.getByRole('region', { name: 'What it gives' })).toContainText('"sub": "works-edge-1"')
  await sheet.getByLabel('Key written as').selectOption('hex')
  await sheet.getByLabel('Key', { exact: true }).fill(key)
  await sheet.getByRole('button', { name: 'Save credential' }).click()
  await expect(sheet).toContainText('This key is not written in hex')
  await sheet.getByLabel('Key written as').selectOption('base64')
  await sheet.getByRole('button', { name: 'Save credential' }).click()
  await expect(sheet).toBeHidden()
  await expect(peek(page).getByRole('heading', { level: 2 })).toHaveText('Key of the kiln edge')
  await expect(peek(page)).toContainText('"aud": "hub.example"')
  const kept = (await all()).find((c) => c.name === 'Key of the kiln edge')!
  expect(kept).toMatchObject({ kind: 'token', recipe: { algorithm: 'HS256', keyAs: 'base64' } })
  expect(JSON.stringify(kept)).not.toContain(key)

  // Another recipe goes only with the key: who has it decides what is signed with it.
  await peek(page).getByRole('button', { name: 'Replace' }).click()
  const again = page.getByRole('dialog', { name: 'Replace Key of the kiln edge' })
  await again.getByLabel('Good for').fill('600')
  const replace = again.getByRole('button', { name: 'Replace', exact: true })
  await expect(replace).toBeDisabled()
  await again.getByLabel('Key', { exact: true }).fill(key)
  await replace.click()
  await expect(again).toBeHidden()
  await expect(peek(page)).toContainText('600 s, renewed 300 s before')
  await peek(page).getByRole('button', { name: 'Remove the one before' }).click()
  await page.getByRole('alertdialog').getByRole('button', { name: 'Remove the one before' }).click()
  await expect(peek(page).getByRole('button', { name: 'Remove the one before' })).toBeHidden()

  // It can be taken wherever a broker takes a log-in.
  await page.goto('/destinations')
  await page.getByRole('button', { name: 'Add destination' }).click()
  const form = page.getByRole('dialog', { name: 'Add a destination' })
  await form.getByLabel('Certificate or log-in', { exact: true }).selectOption('Key of the kiln edge')
  // What few need is folded, and opens where something in it is wrong.
  const hosts = form.getByRole('textbox', { name: 'Other hosts' })
  await expect(hosts).toHaveCount(0)
  await form.getByRole('button', { name: /^Other hosts/ }).click()
  await hosts.fill('standby')
  await form.getByRole('button', { name: /^Other hosts/ }).click()
  await form.getByRole('button', { name: 'Add destination' }).click()
  await expect(form).toContainText('Name and port of each')
  await page.keyboard.press('Escape')
  await page.getByRole('button', { name: 'Throw it away' }).click()
  await api('DELETE', `/api/credentials/${kept.id}`)
})
