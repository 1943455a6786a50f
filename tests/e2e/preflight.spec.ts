import { type Preflight, toAccept } from '~/contract/preflight'
import type { Publication } from '~/contract/publication'
import { draft } from './draft'
import { api, barriers, expect, goLive, logIn, tellPanel, test } from './support'

test('a live publication is edited with two steps and a script, gone live with a warning, seen on the wall, taken back; what goes aside is mended', async ({
  page,
}) => {
  const d = await draft('edited-live', { trigger: { kind: 'hand' } })
  const say = () => api<{ messages: number }>('POST', `/api/publications/${d.id}/say`)
  try {
    await api('POST', `/api/publications/${d.id}/live`, {})
    await logIn(page)
    await page.goto(`/publications?id=${d.id}&section=steps`)
    await expect(page.locator('[data-state="live"]')).toContainText('version 1')
    const { messages } = await say()
    const steps = page.getByRole('region', { name: 'Steps', exact: true })
    const add = async (name: RegExp) => {
      await steps.getByRole('button', { name: 'Add a step' }).click()
      await page.getByRole('menuitem', { name }).click()
    }
    await add(/^Convert/)
    const convert = steps.getByRole('listitem', { name: 'Step 1: Convert' })
    await convert.getByLabel('Member', { exact: true }).fill('temperature')
    await convert.getByLabel('Unit').fill('°F')
    await expect(convert.getByRole('table', { name: 'Before and after' })).toContainText('°F')
    await add(/^Keep if/)
    const keep = steps.getByRole('listitem', { name: 'Step 2: Keep if' })
    await keep.getByRole('textbox', { name: 'Condition' }).click()
    await page.keyboard.type('temperature > -1000.0')
    await page.keyboard.press('Escape')
    await expect(keep).toContainText(/\d+ of \d+ pass/)
    await add(/^Script/)
    const script = steps.getByRole('listitem', { name: 'Step 3: Script' })
    await script.getByRole('textbox', { name: 'Script' }).click()
    await page.keyboard.press('Control+a')
    await page.keyboard.type('message.hot = message.temperature > 1000\nreturn message')
    await script.getByRole('button', { name: 'Add a member' }).click()
    await script.getByLabel('Member 1', { exact: true }).fill('hot')
    await script.getByLabel('Type of member 1').selectOption('boolean')
    await expect(script.getByRole('table', { name: 'Before and after' })).toContainText('hot')

    await page.getByRole('button', { name: 'Go live' }).click()
    const dialog = page.getByRole('dialog')
    await expect(dialog).toContainText('temperature is in °F now, was in °C')
    await expect(dialog.getByRole('region', { name: 'What changes' })).toContainText('temperature')
    await expect(dialog.getByRole('button', { name: 'Go live' })).toBeDisabled()
    expect(await barriers(page)).toEqual([])
    for (const box of await dialog.getByRole('checkbox', { name: /^Accept:/ }).all()) await box.check()
    await dialog.getByLabel('Note').fill('Works in Ohio read it')
    await dialog.getByRole('button', { name: 'Go live' }).click()
    await expect(page.locator('[data-state="live"]')).toContainText('version 2')
    const [second] = await d.versions()
    expect(second).toMatchObject({ number: 2, note: 'Works in Ohio read it' })
    expect(second!.accepted.join()).toContain('temperature is in °F now')
    await say()

    // The wall has its line through all of it, and the switch stands at its brick.
    await page.goto('/proof?slice=60000')
    const line = page.locator('[data-line="edited-live"]')
    await expect(line.locator('[data-count="arrived"]')).toHaveText(String(2 * messages))
    await expect(line.locator('[data-count="missing"]')).toHaveText('0')
    const row = page.getByRole('grid', { name: 'The wall' }).getByRole('row', { name: 'edited-live', exact: true })
    await expect(row.locator('[data-version*="version 2 goes live, by "]').first()).toBeAttached()

    await page.goto(`/publications?id=${d.id}&section=before`)
    const before = page.getByRole('region', { name: 'Before', exact: true })
    await expect(before).toContainText('Works in Ohio read it')
    await before.getByText(/warnings? accepted/).click()
    await expect(before).toContainText('temperature is in °F now')
    await before.getByRole('button', { name: 'Go back to it' }).click()
    await page
      .getByRole('alertdialog')
      .getByRole('button', { name: /^Go back/ })
      .click()
    await expect(page.locator('[data-state="live"]')).toContainText('version 3')

    // One that the broker hangs up on goes aside, and is sent again once it is mended.
    await tellPanel('/api/broker/faults', { hangUpOn: 'edited-live/' }, 'PUT')
    await say()
    await page.goto(`/destinations?id=${d.destinationId}`)
    const asides = page.getByRole('list', { name: 'Messages that went aside' })
    const group = asides.getByRole('button', { name: /edited-live\// }).first()
    await expect(group).toBeVisible({ timeout: 90_000 })
    await tellPanel('/api/broker/faults', {}, 'PUT')
    await group.click()
    await page.getByRole('button', { name: 'Mend and send again' }).first().click()
    await dialog.getByLabel('Topic').fill('varnmoor/edited-live/by-hand')
    await dialog.getByRole('button', { name: 'Send it mended' }).click()
    await expect(dialog).toBeHidden()
    await expect(page.getByText(/Sent again as no\. \d+ by/)).toBeVisible()
    await page.goto('/proof')
    await expect(line.locator('[data-count="missing"]')).toHaveText('0')
  } finally {
    await tellPanel('/api/broker/faults', {}, 'PUT').catch(() => null)
    await d.end()
  }
})

test('a finding is mended with one press', async ({ page }) => {
  const d = await draft('steered', {})
  try {
    await logIn(page)
    await page.goto(`/publications?id=${d.id}&section=address`)
    const address = page.getByRole('region', { name: 'Address', exact: true })
    const topic = address.getByRole('textbox', { name: /^Topic/ }).first()
    await topic.click()
    await page.keyboard.press('Control+a')
    await page.keyboard.type('varnmoor/steered/{unit}/{value.burner}')
    await page.keyboard.press('Escape')
    await expect(address).toContainText('steers the address and is in the payload too')
    await address.getByRole('button', { name: 'Leave it out of the payload' }).click()
    await expect(address).not.toContainText('steers the address and is in the payload too')
  } finally {
    await d.end()
  }
})

test('a program accepts warnings by name too, and nobody takes live what they have not looked at', async ({ page }) => {
  const like = await draft('accepting')
  const { address } = await like.stored()
  await like.end()
  const d = await draft('accepting', { address: { ...address, topic: 'varnmoor/accepting/{unit}/{value.burner}' } as typeof address })
  try {
    const goes = (body: object) => api<Publication>('POST', `/api/publications/${d.id}/live`, body)
    await expect(goes({})).rejects.toThrow(/409 .*"preflight.not-accepted".*steers the address and is in the payload too/)
    expect(await d.versions()).toEqual([])
    const look = () => api<Preflight[]>('POST', '/api/publications/preflight', { ids: [d.id] })
    const chosen = (found: Preflight[]) => ({
      accepted: found.flatMap((p) => toAccept(p.findings)).map(({ section, message }) => ({ section, message })),
      looked: found.map(({ id, version }) => ({ id, version })),
    })
    const before = chosen(await look())
    const edit = async (name: string) => {
      const { id, version, state: _s, liveVersion: _l, editedSinceLive: _e, ...rest } = await d.stored()
      await api('PUT', `/api/publications/${id}?version=${version}`, { ...rest, name })
    }
    await edit('accepting, by another')
    await expect(goes(before)).rejects.toThrow(/409 .*"publication.changed"/)
    expect((await goes(chosen(await look()))).liveVersion).toBe(1)

    // Two people at once: what the other one changed is looked at before it goes out.
    await edit('accepting, again')
    await logIn(page)
    await page.goto(`/publications?id=${d.id}`)
    await page.getByRole('button', { name: 'Preflight', exact: true }).click()
    const dialog = page.getByRole('dialog')
    const go = dialog.getByRole('button', { name: 'Go live' })
    // A sensor may have failed meanwhile: that is accepted too.
    const accepted = async () => {
      await expect(go).not.toHaveAttribute('aria-busy', 'true')
      for (const box of await dialog.getByRole('checkbox', { name: /^Accept:/ }).all()) await box.check()
      await expect(go).toBeEnabled()
    }
    await accepted()
    await edit('accepting, by another again')
    await go.click()
    await expect(page.getByText(/was changed since it was looked at/)).toBeVisible()
    await expect(dialog.getByRole('region', { name: /^What changes/ })).toContainText('accepting, by another again')
    await accepted()
    await go.click()
    await expect(dialog).toBeHidden()
    expect((await d.versions()).map((v) => v.number)).toEqual([2, 1])
  } finally {
    await d.end()
  }
})

test('several publications go live and pause with one preflight', async ({ page }) => {
  const [a, b] = [await draft('several-a'), await draft('several-b')]
  try {
    await logIn(page)
    await page.goto('/publications')
    await page.getByRole('button', { name: 'Several at once' }).click()
    const dialog = page.getByRole('dialog')
    for (const name of ['several-a', 'several-b']) await dialog.getByRole('checkbox', { name: new RegExp(name) }).check()
    await dialog.getByRole('button', { name: 'Preflight' }).click()
    await expect(
      dialog
        .getByRole('button', { name: /^Go live with 2$/ })
        .or(dialog.getByText(/still to be accepted/))
        .first(),
    ).toBeVisible()
    for (const box of await dialog.getByRole('checkbox', { name: /^Accept:/ }).all()) await box.check()
    await dialog.getByRole('button', { name: 'Go live with 2' }).click()
    await expect(dialog).toBeHidden()
    const states = async () => {
      const all = await api<Publication[]>('GET', '/api/publications')
      return [a, b].map(({ id }) => all.find((p) => p.id === id)!.state)
    }
    expect(await states()).toEqual(['live', 'live'])
    await page.getByRole('button', { name: 'Several at once' }).click()
    for (const name of ['several-a', 'several-b']) await dialog.getByRole('checkbox', { name: new RegExp(name) }).check()
    await dialog.getByRole('button', { name: 'Pause 2' }).click()
    await expect(dialog).toBeHidden()
    expect(await states()).toEqual(['paused', 'paused'])
  } finally {
    await a.end()
    await b.end()
  }
})

test('what waits is looked at, opened whole and skipped; the rest goes out when the link is back', async ({ page }) => {
  const d = await draft('waits', { trigger: { kind: 'hand' } })
  try {
    await logIn(page)
    await page.goto(`/publications?id=${d.id}`)
    await goLive(page)
    await expect(page.locator('[data-state="live"]')).toContainText('version 1')
    await tellPanel('/api/broker/cut', { seconds: 45 })
    await page.goto(`/destinations?id=${d.destinationId}`)
    await expect(page.getByText('trouble: The broker hung up').first()).toBeVisible()
    const { messages } = await api<{ messages: number }>('POST', `/api/publications/${d.id}/say`)
    await page.getByRole('button', { name: 'Look inside' }).click()
    const dialog = page.getByRole('dialog')
    const waiting = dialog.getByRole('list', { name: 'Messages that wait' }).getByRole('button', { name: /varnmoor\/waits\// })
    await expect(waiting).toHaveCount(messages)
    await waiting.first().click()
    await expect(dialog.getByRole('region', { name: 'Message' })).toContainText('"temperature"')
    expect(await barriers(page)).toEqual([])
    await dialog.getByRole('button', { name: 'Skip this message' }).click()
    await page.getByRole('alertdialog').getByRole('button', { name: 'Skip message' }).click()
    await expect(waiting).toHaveCount(messages - 1)
    await page.goto('/proof')
    const line = page.locator('[data-line="waits"]')
    await expect.poll(async () => Number(await line.locator('[data-count="arrived"]').textContent()), { timeout: 120_000 }).toBe(messages - 1)
    await expect(line.locator('[data-count="missing"]')).toHaveText('0')
  } finally {
    await d.end()
  }
})
