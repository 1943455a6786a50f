import { api, expect, ledger, logIn, panel, test, wholeLog } from './support'

const conditions = () =>
  api<{ sources: Record<string, { state: string; reason: string }>; destinations: Record<string, { sender: { state: string } }> }>(
    'GET',
    '/api/conditions',
  )
const put = (device: 'broker' | 'kiln', faults: object) =>
  fetch(`${panel}/api/${device}/faults`, { method: 'PUT', headers: { 'content-type': 'application/json' }, body: JSON.stringify(faults) })

test.afterEach(async () => {
  for (const device of ['broker', 'kiln'] as const) await put(device, {})
})

test("what the panel lets go wrong at the broker stands on the wall, in the counts and in the events, and in the broker's own log", async ({
  page,
  context,
}) => {
  const sum = async (k: 'altered' | 'missing') => (await ledger()).reduce((n, l) => n + (l.counts as Record<string, number>)[k]!, 0)
  const before = await sum('altered')
  const works = await context.newPage()
  await works.goto(panel)
  const form = works.getByRole('form', { name: 'Faults of the broker' })
  await form.getByLabel('Alter, %').fill('60')
  await form.getByLabel('Seed').fill('12')
  await form.getByRole('button', { name: 'Set' }).click()
  await expect(form.getByText('in force')).toBeVisible()
  await expect.poll(() => sum('altered'), { timeout: 90_000 }).toBeGreaterThan(before + 5)
  await form.getByRole('button', { name: 'Clear all' }).click()
  await expect(form.getByText('in force')).toBeHidden()
  await expect(form.getByLabel('Alter, %')).toHaveValue('0')

  await logIn(page, 'viewer')
  await page.goto('/proof')
  await expect(page.locator('[data-brick="altered"]').first()).toBeVisible()
  await expect(page.getByLabel('What the bricks mean')).toContainText('altered')
  await expect(page.getByRole('status', { name: 'In one sentence' })).toContainText(/arrived altered, (at|between)/)
  await expect(page.locator('[data-event="trouble"], [data-event="warning"]').first()).toBeVisible()
  await expect(page.locator('[data-total="Altered"]')).not.toHaveText('0')
  // A brick lists them one by one, and any opens.
  await page.locator('[data-brick="altered"]').first().click()
  const peek = page.getByRole('complementary', { name: 'Peek' })
  const one = peek.getByRole('group', { name: 'Altered messages' }).getByRole('link').first()
  const number = await one.textContent()
  await one.click()
  await expect(page).toHaveURL(/\/proof\/journal\?/)
  await expect(peek.getByRole('heading', { level: 2 })).toContainText(`no. ${number}`)
  await expect(peek).toContainText('Arrived with another payload than was sent')
  await page.goto('/proof')
  // Through time by keys and by wheel, about the pointer.
  const wall = page.getByRole('grid', { name: 'The wall' })
  await wall.focus()
  await page.keyboard.press('-')
  await expect(page).toHaveURL(/slice=60000/)
  await page.keyboard.press('PageUp')
  await expect(page).toHaveURL(/until=/)
  await page.keyboard.press('PageDown')
  await expect(page).not.toHaveURL(/until=/)
  await wall.hover({ position: { x: 400, y: 10 } })
  await page.keyboard.down('Control')
  await page.mouse.wheel(0, -100)
  await page.keyboard.up('Control')
  await expect(page).not.toHaveURL(/slice=/)
  await page.mouse.wheel(-240, 0)
  await expect(page).toHaveURL(/until=/)
  await page.getByRole('button', { name: 'Back to live' }).click()
  await expect(page.getByRole('list', { name: 'Events' })).toContainText('altered: arrived with another payload', { timeout: 45_000 })
  await page.goto('/proof/events')
  await expect(page.getByRole('list', { name: 'Events' })).toContainText('altered: arrived with another payload')

  const log = await wholeLog<{ n: number; key: string }, { fate: string }>('broker')
  expect(log.arrivals.length).toBeGreaterThan(50)
  // Devices that speak by themselves give their messages no id.
  expect(log.arrivals.find((a) => a.key)!.key).toMatch(/^[0-9a-f]{8}\.\d+\.\d+$/)
  expect(log.copies.filter((c) => c.fate === 'altered').length).toBeGreaterThan(5)
  await works.close()
})

test('a kiln that is slow stays up; one that refuses log-ins is said to, and comes back', async () => {
  const { id } = (await api<{ id: string; name: string }[]>('GET', '/api/sources')).find((s) => s.name === 'Kiln controller')!
  const source = async () => (await conditions()).sources[id]!
  await put('kiln', { slowMs: 150 })
  await new Promise((done) => setTimeout(done, 3000))
  expect((await source()).state).toBe('running')
  await put('kiln', { refuseLogins: true })
  await fetch(`${panel}/api/kiln/cut`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: '{"seconds":1}' })
  await expect.poll(async () => (await source()).reason, { timeout: 120_000 }).toMatch(/log-in|password|refuse/i)
  expect((await source()).state).toBe('trouble')
  await put('kiln', {})
  await expect.poll(async () => (await source()).state, { timeout: 180_000 }).toBe('running')
})

test('the panel refuses nonsense and says which field', async () => {
  const response = await put('broker', { drop: 7 })
  expect(response.status).toBe(422)
  expect(((await response.json()) as { message: string }).message).toContain('drop')
  expect((await put('kiln', { drop: 0.1 })).status).toBe(422)
})
