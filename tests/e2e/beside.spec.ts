import { draft } from './draft'
import { api, barriers, expect, goLive, logIn, test } from './support'

interface Tag {
  id: string
  name: string
  handle: number
}
const tagNamed = async (name: RegExp) => (await api<Tag[]>('GET', '/api/tags')).find((t) => name.test(t.name))!

test('each tag stands beside where it arrives: what is made ten times as much is named, opened, and led to', async ({ page }) => {
  const d = await draft('tenfold', { steps: [{ kind: 'set', member: 'temperature', expression: 'temperature * 10.0' }] })
  try {
    await logIn(page)
    await page.goto(`/publications?id=${d.id}`)
    await goLive(page)
    await page.goto(`/proof/beside?of=${d.id}&span=5`)
    const sentence = page.locator('[data-sentence]')
    const pairs = page.getByRole('grid', { name: 'Pairs' })
    const wrong = pairs.getByRole('row', { name: /Zone \d+\/temperature.*10 times as much/ })
    // Enough has to move, and to be written.
    await expect(async () => {
      await page.getByRole('button', { name: 'Compare again' }).click()
      await expect(wrong.first()).toBeVisible({ timeout: 5000 })
    }).toPass({ timeout: 120_000 })
    await expect(sentence).toContainText(/^\d+ of 48 do not arrive as they were: .*\d+ by a factor/)
    expect(await barriers(page)).toEqual([])

    await page.getByRole('checkbox', { name: 'only what differs' }).check()
    await expect(pairs.getByRole('row', { name: /\/setpoint/ })).toHaveCount(0)
    await page.getByRole('searchbox', { name: 'tag or place contains' }).fill('nothing like it')
    await expect(page.getByText('Nothing found')).toBeVisible()
    await page.getByRole('searchbox', { name: 'tag or place contains' }).fill('')
    await wrong.first().focus()
    await page.keyboard.press(' ')
    const peek = page.getByRole('complementary', { name: 'Peek' })
    await expect(peek.getByRole('status')).toContainText('Differs: 10 times as much')
    await expect(peek).toContainText('It is computed: temperature * 10.0')
    await expect(peek).toContainText('as the witness saw it arrive')
    await expect(peek.getByRole('img', { name: /^What .* had and what arrived of it/ })).toBeVisible()
    await expect(peek).toContainText('What is named above')
    expect(await barriers(page)).toEqual([])
    // It goes on by itself, and is found again by its address.
    const had = await peek.getByText('Had last').locator('..').textContent()
    await expect.poll(() => peek.getByText('Had last').locator('..').textContent(), { timeout: 60_000 }).not.toBe(had)
    await page.reload()
    await expect(peek.getByRole('status')).toContainText('10 times as much')
    await peek.getByRole('link', { name: 'Its messages' }).click()
    await expect(page.getByRole('grid', { name: 'Messages' }).getByRole('row').nth(1)).toContainText('tenfold')
  } finally {
    await d.end()
  }
})

test('a tag stands beside another one that is to be the same, by the keyboard, and is taken out again', async ({ page }) => {
  const [held, came] = [await tagNamed(/Zone 3\/temperature$/), await tagNamed(/Zone 5\/temperature$/)]
  await logIn(page, 'viewer')
  await page.goto('/proof/beside?span=5')
  await page.getByRole('button', { name: 'Beside another tag' }).click()
  const dialog = page.getByRole('dialog', { name: 'A tag beside another one' })
  await dialog.getByRole('textbox', { name: 'Tag for what has it first' }).fill(held.name)
  await page.keyboard.press('Enter')
  await dialog.getByRole('textbox', { name: 'Tag for where it comes back' }).fill(came.name)
  await page.keyboard.press('Enter')
  await expect(dialog).toBeHidden()
  const peek = page.getByRole('complementary', { name: 'Peek' })
  await expect(peek).toContainText(`beside ${came.name}, as a source reads it back`)
  await expect(peek.getByRole('status')).toContainText(/Differs: |Moved too little/)
  expect(new URL(page.url()).searchParams.get('tags')).toBe(`${held.id}~${came.id}`)
  await expect(
    page
      .getByRole('grid', { name: 'Pairs' })
      .getByRole('row', { name: new RegExp(`${came.name}`) })
      .first(),
  ).toBeVisible()
  await peek.getByRole('button', { name: 'Take the pair out' }).click()
  await expect.poll(() => new URL(page.url()).searchParams.get('tags')).toBeNull()
  await expect(peek).toContainText('There is no such pair in that time')
})

test('a test value is written to the device, and seen to come out', async ({ page }) => {
  const tag = await tagNamed(/^Dryer 4\/setpoint$/)
  const like = await draft('like-pushed')
  const { address } = await like.stored()
  await like.end()
  const d = await draft('pushed', {
    equipmentIds: [],
    tags: { folder: tag.name.split('/')[0]!, text: 'setpoint' },
    address: { ...address, topic: 'varnmoor/pushed/{path}' } as typeof address,
  })
  try {
    await logIn(page)
    await page.goto(`/publications?id=${d.id}`)
    await goLive(page)
    await page.goto(`/proof/beside?of=${d.id}&span=5`)
    await page.getByRole('row', { name: /Dryer 4\/setpoint/ }).click()
    const push = page.getByRole('complementary', { name: 'Peek' }).getByRole('region', { name: 'Push a test value' })
    await push.getByRole('textbox', { name: 'New value' }).fill('86.5')
    await push.getByRole('button', { name: 'Write', exact: true }).click()
    await push.getByRole('button', { name: 'Write it' }).click()
    await expect(push.getByRole('link', { name: /^pushed, no\. \d+/ })).toBeVisible({ timeout: 60_000 })
    await expect(push).toContainText(/made .* after; seen there .* later/)
  } finally {
    await d.end()
  }
})
