import { createServer } from 'node:net'
import { Secret, TOTP } from 'otpauth'
import { api, expect, logIn, people, port, test, web } from './support'

interface Named {
  id: string
  name: string
}

const session = async (login: string, password: string) => {
  const headers = { 'content-type': 'application/json', 'sec-fetch-site': 'same-origin' }
  const r = await fetch(`${web}/api/session`, { method: 'POST', headers, body: JSON.stringify({ login, password }) })
  return { status: r.status, cookie: /embrik_session=[^;]+/.exec(r.headers.get('set-cookie') ?? '')?.[0] ?? '' }
}

test('somebody changes the own password, sees where they are logged in, and ends the other session', async ({ page }) => {
  await api('POST', '/api/people', { name: 'Lena Brook', login: 'lena', role: 'viewer', password: 'three words at noon' })
  const other = await session('lena', 'three words at noon')
  await page.goto('/login')
  await page.getByLabel('Log-in').fill('lena')
  await page.getByLabel('Password').fill('three words at noon')
  await page.getByRole('button', { name: 'Log in' }).click()
  await page.waitForURL((url) => !url.pathname.startsWith('/login'))
  await page.goto('/settings/account')
  const form = page.getByRole('form', { name: 'Password' })
  const fill = async (current: string, next: string, again = next) => {
    await form.getByLabel('Current password').fill(current)
    await form.getByLabel('New password', { exact: true }).fill(next)
    await form.getByLabel('New password again').fill(again)
    await form.getByRole('button', { name: 'Change password' }).click()
  }
  await fill('three words at noon', 'four words at night', 'another')
  await expect(form).toContainText('The two are not the same')
  await fill('not my password', 'four words at night')
  await expect(form).toContainText('This is not your password')
  await fill('three words at noon', 'Password2026!')
  await expect(form).toContainText('One of the most common passwords')
  const sessions = page.getByRole('table', { name: 'Sessions' })
  await expect(sessions.getByRole('row')).toHaveCount(3)
  await sessions.getByRole('button', { name: 'End session' }).click()
  await expect(sessions.getByRole('row')).toHaveCount(2)
  expect((await fetch(`${web}/api/tags`, { headers: { cookie: other.cookie } })).status).toBe(401)
  await fill('three words at noon', 'four words at night')
  await expect(page.getByText('Your password is changed')).toBeVisible()
  expect((await session('lena', 'three words at noon')).status).toBe(401)
  expect((await session('lena', 'four words at night')).status).toBe(200)
  // What only administrators see is said so, and leads nowhere else.
  await page.goto('/settings/audit')
  await expect(page.getByText('For administrators')).toBeVisible()
})

test('the audit tells who did what, and what was before, and holds no secret', async ({ page }) => {
  const source = (await api<(Named & { settings: { retryMs: number } })[]>('GET', '/api/sources')).find((s) => s.name === 'Compressor 1')!
  await api('PUT', `/api/sources/${source.id}`, { ...source, settings: { ...source.settings, retryMs: 4321 } })
  await logIn(page, 'administrator')
  await page.goto('/settings/audit')
  const acts = page.getByRole('list', { name: 'Audit' })
  // What is looked for stands in the address.
  await page.getByPlaceholder('who, act or name').fill('Compressor 1')
  await expect(page).toHaveURL(/q=Compressor/)
  await page.reload()
  await expect(page.getByPlaceholder('who, act or name')).toHaveValue('Compressor 1')
  await page.getByPlaceholder('who, act or name').fill('')
  await expect(acts.getByRole('listitem').filter({ hasText: 'change source Compressor 1' }).first()).toContainText(
    `settings.retryMs: ${source.settings.retryMs} → 4321`,
  )
  await expect(acts.getByRole('listitem').filter({ hasText: 'log in' }).first()).toContainText('Odo Marsh')
  await page.getByPlaceholder('who, act or name').fill('lena')
  await expect(acts.getByRole('listitem').first()).toContainText(/Lena Brook/)
  await api('PUT', `/api/sources/${source.id}`, source)
  const key = people.administrator[1]
  const exported = await api<unknown[]>('GET', '/api/audit?limit=1000')
  expect(JSON.stringify(exported)).not.toContain(key)
  expect(JSON.stringify(exported)).not.toContain('four words at night')
})

test('an engineer has no stored password sent to a place of his own', async () => {
  let caught = ''
  const thief = createServer((socket) => {
    socket.on('data', (d) => (caught += d.toString('latin1')))
    socket.on('error', () => undefined)
  })
  await new Promise<void>((done) => thief.listen(port + 90, '127.0.0.1', done))
  const { cookie } = await session(...people.engineer)
  const ask = async (path: string, body: unknown) => {
    const headers = { cookie, 'content-type': 'application/json', 'sec-fetch-site': 'same-origin' }
    const r = await fetch(`${web}${path}`, { method: 'POST', headers, body: JSON.stringify(body) })
    return { status: r.status, body: await r.text() }
  }
  try {
    const sources = await api<(Named & { kind: string; settings: object })[]>('GET', '/api/sources')
    const moved: Record<string, object> = {
      opcua: { endpoint: `opc.tcp://127.0.0.1:${port + 90}/kiln` },
      http: { url: `http://127.0.0.1:${port + 90}/air` },
      sql: { host: '127.0.0.1', port: port + 90 },
      mqtt: { host: '127.0.0.1', port: port + 90, tls: false },
    }
    for (const s of sources.filter((x) => moved[x.kind])) {
      const draft = { ...s, settings: { ...s.settings, ...moved[s.kind] } }
      const answer = await ask('/api/sources/check', draft)
      expect([s.name, answer.status]).toEqual([s.name, s.kind === 'mqtt' ? 403 : 422])
    }
    const [destination] = await api<{ id: string; name: string; kind: string; settings: object }[]>('GET', '/api/destinations')
    const login = (await api<(Named & { kind: string })[]>('GET', '/api/credentials')).find((c) => c.kind === 'password')!
    const settings = { ...destination!.settings, port: port + 90, tls: false, credentialId: login.id, witness: false }
    const answer = await ask('/api/destinations/check', { ...destination, settings })
    expect(answer.status).toBe(403)
    expect(JSON.parse(answer.body)).toMatchObject({ code: 'credential.place', fields: { 'settings.credentialId': expect.any(String) } })
    expect(caught).toBe('')
  } finally {
    await new Promise<void>((done) => thief.close(() => done()))
  }
})

test('somebody sets up a second factor, is asked for its code at the log-in, and an administrator resets it', async ({ page, browser }) => {
  await api('POST', '/api/people', { name: 'Piet Brook', login: 'piet', role: 'viewer', password: 'three words at noon' })
  const enter = async () => {
    // A page whose session has ended goes there by itself, perhaps just now.
    await expect(() => page.goto('/login')).toPass()
    await page.getByLabel('Log-in').fill('piet')
    await page.getByLabel('Password').fill('three words at noon')
    await page.keyboard.press('Enter')
  }
  const inside = () => page.waitForURL((url) => !url.pathname.startsWith('/login'))
  await enter()
  await inside()
  await page.goto('/settings/account')
  await page.getByRole('button', { name: 'Set up a second factor' }).click()
  await page.keyboard.type('not mine')
  await page.keyboard.press('Enter')
  await expect(page.getByRole('dialog')).toContainText('This is not your password')
  await page.getByLabel('Your password').fill('three words at noon')
  await page.keyboard.press('Enter')
  await expect(page.getByRole('img', { name: 'The key' })).toBeVisible()
  const secret = (await page.getByTestId('key').textContent())!.replaceAll(' ', '')
  const shown = (off = 0) => new TOTP({ secret: Secret.fromBase32(secret) }).generate({ timestamp: Date.now() + off * 30_000 })
  const code = page.getByRole('textbox', { name: 'The code that it shows now' })
  await expect(code).toBeFocused()
  await page.keyboard.type('000000')
  await page.keyboard.press('Enter')
  await expect(page.getByRole('dialog')).toContainText('This is not the code of this moment')
  await code.fill(shown(-1))
  await page.keyboard.press('Enter')
  await expect(page.getByRole('list', { name: 'Recovery codes' }).getByRole('listitem')).toHaveCount(10)
  const recovery = (await page.getByRole('list', { name: 'Recovery codes' }).getByRole('listitem').first().textContent())!
  await page.getByRole('button', { name: 'I have kept them' }).click()
  await expect(page.getByRole('region', { name: 'Second factor' })).toContainText('10 recovery codes left')

  await enter()
  const asked = page.getByLabel('Code from your device, or a recovery code')
  await expect(asked).toBeFocused()
  await page.keyboard.type('123456')
  await page.keyboard.press('Enter')
  await expect(page.getByText('This is not the code of this moment')).toBeVisible()
  await asked.fill(shown())
  await page.keyboard.press('Enter')
  await inside()
  await enter()
  await asked.fill(recovery)
  await page.keyboard.press('Enter')
  await inside()

  const other = await browser.newContext()
  const admin = await other.newPage()
  await logIn(admin, 'administrator')
  await admin.goto('/settings')
  const row = admin.getByRole('row').filter({ hasText: 'Piet Brook' })
  await row.getByRole('button', { name: 'Reset second factor' }).click()
  // Asked in Embrik's own words; Escape leaves things as they are.
  const question = admin.getByRole('alertdialog', { name: 'Reset the second factor of Piet Brook' })
  await expect(question).toBeVisible()
  await admin.keyboard.press('Escape')
  await expect(question).toBeHidden()
  await row.getByRole('button', { name: 'Reset second factor' }).click()
  await question.getByRole('button', { name: 'Reset second factor' }).click()
  await expect(row).toContainText('password only')
  await other.close()
  await enter()
  await inside()
})
