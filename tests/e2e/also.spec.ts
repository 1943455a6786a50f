import type { Publication } from '~/contract/publication'
import { api, expect, goLive, ledger, logIn, test } from './support'

test('one publication speaks to two destinations of two kinds; each is accounted for by itself, one is switched off, and comes back', async ({
  page,
}) => {
  const all = await api<Publication[]>('GET', '/api/publications')
  const like = all.find((p) => p.name === 'Kiln zones, each change')!
  const { id: _i, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...rest } = like
  const address = { ...rest.address, topic: 'varnmoor/also/{unit}' }
  const { id } = await api<Publication>('POST', '/api/publications', {
    ...rest,
    name: 'Zones for two',
    equipmentIds: like.equipmentIds.slice(0, 3),
    address,
  })
  const counts = async (name: string) => (await ledger()).find((l) => l.publication === name)?.counts
  try {
    await logIn(page)
    await page.goto(`/publications?id=${id}`)
    await goLive(page)
    await expect(page.locator('[data-state="live"]')).toContainText('version 1')

    const also = page.getByRole('region', { name: 'And also', exact: true })
    await expect(also).toContainText('nowhere else')
    await also.getByRole('button').first().click()
    await also.getByRole('button', { name: 'Add a destination' }).click()
    // It begins with what the first says; equipment, trigger and steps are that one's.
    await expect(page.getByLabel('Name', { exact: true })).toHaveValue(/^Zones for two to /)
    const what = page.getByRole('region', { name: 'What', exact: true })
    await what.getByRole('button').first().click()
    await expect(what).toContainText('As in Zones for two')
    const through = page.getByRole('region', { name: 'Through', exact: true })
    await through.getByRole('button').first().click()
    await through.getByLabel('Destination').selectOption({ label: 'Works stream' })
    await expect(page.getByLabel('Name', { exact: true })).toHaveValue('Zones for two to Works stream')
    const to = page.getByRole('region', { name: 'Address', exact: true })
    await to.getByRole('button').first().click()
    await to.getByRole('textbox', { name: 'Topic', exact: true }).fill('{enterprise}.works')
    await goLive(page)
    await expect(page.locator('[data-state="live"]')).toContainText('version 2')

    const list = page.getByRole('list', { name: 'Publications' })
    await list.getByRole('button', { name: 'Zones for two', exact: false }).first().click()
    await expect(page.locator('[data-state="live"]')).toContainText('version 2')
    await expect(also).toContainText('Works stream')
    await expect.poll(async () => (await counts('Zones for two'))?.arrived, { timeout: 60_000 }).toBeGreaterThan(20)
    await expect.poll(async () => (await counts('Zones for two to Works stream'))?.arrived, { timeout: 60_000 }).toBeGreaterThan(20)
    expect(await counts('Zones for two to Works stream')).toMatchObject({ missing: 0, doubled: 0 })

    // Switched off, it goes with the next go-live; the preflight says so.
    await also.getByRole('button').first().click()
    await also.getByRole('link').click()
    await page.getByRole('button', { name: 'Switch off' }).click()
    await expect(page.getByText('This clause is switched off')).toBeVisible()
    await page.getByRole('button', { name: 'Preflight' }).click()
    const dialog = page.getByRole('dialog')
    await expect(dialog).toContainText('Zones for two to Works stream is switched off, and is sent no more')
    await dialog.getByRole('button', { name: 'Leave it as it is' }).click()
    await goLive(page)
    await expect(page.locator('[data-state="paused"]')).toBeVisible()
    await page.goto(`/publications?id=${id}&section=before`)
    await expect(page.locator('[data-state="live"]')).toContainText('version 3')
    // The version before had it.
    const before = page.getByRole('region', { name: 'Before', exact: true })
    await before.getByRole('button', { name: 'Go back to it' }).first().click()
    await page.getByRole('alertdialog').getByRole('button', { name: 'Go back to version 2' }).click()
    await expect(page.locator('[data-state="live"]')).toContainText('version 4')
    const states = async () =>
      (await api<Publication[]>('GET', '/api/publications')).filter((p) => p.id === id || p.alsoOf === id).map((p) => p.state)
    expect(await states()).toEqual(['live', 'live'])
    await page.getByRole('button', { name: 'Pause' }).click()
    await expect.poll(states).toEqual(['paused', 'paused'])
  } finally {
    await api('POST', `/api/publications/${id}/pause`).catch(() => null)
    await api('DELETE', `/api/publications/${id}`)
  }
})
