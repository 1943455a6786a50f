import { draft } from './draft'
import { barriers, expect, goLive, logIn, test } from './support'

test('two steps and a script: before and after stand beside each, what is wrong is said where it is, and it goes live', async ({ page }) => {
  const d = await draft('with-steps')
  try {
    await logIn(page)
    await page.goto(`/publications?id=${d.id}&section=steps`)
    const steps = page.getByRole('region', { name: 'Steps', exact: true })
    const add = async (name: RegExp) => {
      await steps.getByRole('button', { name: 'Add a step' }).click()
      await page.getByRole('menuitem', { name }).click()
    }
    await expect(steps).toContainText('sent as read')

    await add(/^Keep if/)
    const keep = steps.getByRole('listitem', { name: 'Step 1: Keep if' })
    await keep.getByRole('textbox', { name: 'Condition' }).click()
    await page.keyboard.type('temprature > 1.0')
    await expect(keep.getByRole('alert').or(steps.getByText('temprature is not known')).first()).toBeVisible()
    await page.keyboard.press('Control+a')
    await page.keyboard.type('temperature > -1000.0')
    await page.keyboard.press('Escape')
    await expect(keep).toContainText(/\d+ of \d+ pass/)

    await add(/^Set/)
    const set = steps.getByRole('listitem', { name: 'Step 2: Set' })
    await set.getByLabel('Member').fill('deviation')
    await set.getByRole('textbox', { name: 'Expression' }).click()
    await page.keyboard.type('temperature - setpoint')
    await page.keyboard.press('Escape')
    await set.getByLabel('Unit').fill('K')
    await expect(set.getByRole('table', { name: 'Before and after' })).toContainText('deviation')

    await add(/^Script/)
    const script = steps.getByRole('listitem', { name: 'Step 3: Script' })
    await script.getByRole('textbox', { name: 'Script' }).click()
    await page.keyboard.press('Control+a')
    await page.keyboard.type('console.log("of", equipment.name)\nmessage.hot = message.temperature > 600\nreturn mesage')
    await expect(steps.getByText("'mesage' is not defined").first()).toBeVisible()
    await page.keyboard.press('Control+a')
    await page.keyboard.type('console.log("of", equipment.name)\nmessage.hot = message.temperature > 600\nreturn message')
    await expect(script.getByText('It gives hot, which is not among what it adds').first()).toBeVisible()
    await script.getByRole('button', { name: 'Add a member' }).click()
    await script.getByLabel('Member 1', { exact: true }).fill('hot')
    await script.getByLabel('Type of member 1').selectOption('boolean')
    await expect(script.getByRole('table', { name: 'Before and after' })).toContainText('hot')
    await expect(script.getByRole('list', { name: 'Console' })).toContainText('of Zone')
    await expect(page.getByRole('complementary').last()).toContainText('"hot"')

    await steps.getByRole('button', { name: 'Hold these values' }).click()
    await expect(steps).toContainText('work on the values of the moment')
    expect(await barriers(page)).toEqual([])
    // What is held stays as it is while it is worked out anew; only how long that took may change.
    const worked = () => page.waitForResponse((r) => r.url().endsWith('/api/publications/preview') && r.ok())
    const values = () => script.getByRole('table', { name: 'Before and after' }).innerText()
    await worked()
    const held = await values()
    await worked()
    await worked()
    expect(await values()).toBe(held)

    await goLive(page)
    await expect(page.locator('[data-state="live"]')).toContainText('version 1')
    await expect(page.getByText('Confirmed by witness')).toBeVisible()
    const kinds = (await d.stored()).steps!.map((s) => s.kind)
    expect(kinds).toEqual(['keep', 'set', 'script'])
  } finally {
    await d.end()
  }
})

test('steps by keyboard: moved, taken out, and taken back', async ({ page }) => {
  const d = await draft('steps-by-keys', {
    steps: [{ kind: 'rename', member: 'temperature', to: 'heat' }, { kind: 'leave', members: ['setpoint'], but: false }, { kind: 'repeats' }],
  })
  try {
    await logIn(page)
    await page.goto(`/publications?id=${d.id}&section=steps`)
    const steps = page.getByRole('region', { name: 'Steps', exact: true })
    const order = () =>
      steps
        .getByRole('list', { name: 'Steps in their order' })
        .getByRole('listitem')
        .evaluateAll((all) => all.map((li) => li.getAttribute('aria-label')))
    await expect.poll(order).toEqual(['Step 1: Rename', 'Step 2: Leave out', 'Step 3: Drop repeats'])
    await steps
      .getByRole('button', { name: /Rename/ })
      .first()
      .focus()
    await page.keyboard.press('Alt+ArrowDown')
    await expect.poll(order).toEqual(['Step 1: Leave out', 'Step 2: Rename', 'Step 3: Drop repeats'])
    await steps.getByRole('button', { name: 'Remove step 1' }).click()
    await expect.poll(order).toEqual(['Step 1: Rename', 'Step 2: Drop repeats'])
    await steps.getByRole('button', { name: 'Remove step 1' }).focus()
    await page.keyboard.press('Control+z')
    await expect.poll(order).toEqual(['Step 1: Leave out', 'Step 2: Rename', 'Step 3: Drop repeats'])
    await page.keyboard.press('Control+y')
    await expect.poll(order).toEqual(['Step 1: Rename', 'Step 2: Drop repeats'])
  } finally {
    await d.end()
  }
})

test('a table is brought in as a file, and says what is wrong with it', async ({ page }) => {
  const d = await draft('with-table', { steps: [] })
  try {
    await logIn(page)
    await page.goto(`/publications?id=${d.id}&section=steps`)
    const steps = page.getByRole('region', { name: 'Steps', exact: true })
    await steps.getByRole('button', { name: 'Add a step' }).click()
    await page.getByRole('menuitem', { name: /^Look up: / }).click()
    const row = steps.getByRole('listitem', { name: 'Step 1: Look up' })
    const file = (text: string) =>
      row.getByLabel('File of the table').setInputFiles({ name: 'crews.csv', mimeType: 'text/csv', buffer: Buffer.from(text) })
    await file('burner,crew\ntrue,day\ntrue,night\n')
    await expect(row.getByText('Row 2 is for true, as row 1 is')).toBeVisible()
    await file('burner;crew;bonus\ntrue;"day, first";1,5\nfalse;none;0\n')
    await expect(row.getByRole('table', { name: 'Table' })).toContainText('day, first')
    await row.getByLabel('Member', { exact: true }).fill('burner')
    await expect(row.getByRole('table', { name: 'Before and after' })).toContainText('crew')
  } finally {
    await d.end()
  }
})
