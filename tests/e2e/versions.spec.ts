import type { Publication } from '~/contract/publication'
import { api, expect, goLive, ledger, logIn, test } from './support'

test('equipment by rule, another version, what differs, and back to the first in one act', async ({ page }) => {
  const like = (await api<Publication[]>('GET', '/api/publications')).find((p) => p.name === 'Kiln zones, each change')!
  const { id: _i, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...rest } = like
  const draft = {
    ...rest,
    name: 'By rule',
    equipmentIds: like.equipmentIds.slice(0, 1),
    address: { ...rest.address, topic: 'varnmoor/by-rule/{unit}' },
  }
  const { id } = await api<Publication>('POST', '/api/publications', draft)
  try {
    await logIn(page)
    await page.goto(`/publications?id=${id}&section=what`)
    const what = page.getByRole('region', { name: 'What', exact: true })
    await what.getByRole('button', { name: 'By rule', exact: true }).click()
    // What was chosen by hand says what the rule may be.
    await expect(what.getByLabel('Of class').locator('option:checked')).toHaveText('Kiln Zone')
    // Others may have added zones before.
    const [zone] = (await api<{ name: string; classId: string }[]>('GET', '/api/equipment')).filter((e) => e.name === 'Zone 4')
    const { ids } = await api<{ ids: string[] }>('POST', '/api/equipment/matching', { classId: zone!.classId })
    await expect(what.getByRole('status')).toContainText(`Now ${ids.length}: Zone 1, Zone 2`)
    await what.getByLabel('With the fact').fill('fuel')
    await expect(what.getByRole('status')).toContainText('No equipment is so now')
    await expect(what).toContainText('No equipment is as the rule says')
    await expect(page.getByRole('button', { name: 'Go live' })).toBeDisabled()
    await what.getByLabel('With the fact').fill('')
    await expect(what.getByRole('status')).toContainText(`Now ${ids.length}:`)
    await goLive(page)
    await expect(page.locator('[data-state="live"]')).toContainText('version 1')
    expect(
      await api<Publication[]>('GET', '/api/publications').then((all) => all.find((p) => p.id === id)!.equipmentIds.length),
    ).toBeGreaterThanOrEqual(12)

    const when = page.getByRole('region', { name: 'When', exact: true })
    await when.getByRole('button').first().click()
    await when.getByRole('button', { name: 'Every', exact: true }).click()
    await goLive(page)
    await expect(page.locator('[data-state="live"]')).toContainText('version 2')
    const before = page.getByRole('region', { name: 'Before', exact: true })
    await before.getByRole('button').first().click()
    await before.getByRole('button', { name: 'Show differences' }).click()
    await expect(before.getByRole('list', { name: 'Differences of version 2' })).toContainText('When: trigger: change every')
    await before.getByRole('button', { name: 'Go back to it' }).click()
    await page.getByRole('alertdialog').getByRole('button', { name: 'Go back to version 1' }).click()
    await expect(page.locator('[data-state="live"]')).toContainText('version 3')
    await expect(before).toContainText('version 1 again')
    // What was written stays, and is said not to be live.
    await expect(page.getByText('edits not live')).toBeVisible()
    await expect(when).toContainText('every 10 s')
    await expect.poll(async () => (await ledger()).find((l) => l.publication === 'By rule')?.counts.arrived, { timeout: 60_000 }).toBeGreaterThan(20)
    expect((await ledger()).find((l) => l.publication === 'By rule')?.counts).toMatchObject({ missing: 0, doubled: 0 })

    // On the wall each version stands at the brick in which it went live.
    await page.goto('/proof?slice=60000')
    const row = page.getByRole('grid', { name: 'The wall' }).getByRole('row', { name: 'By rule', exact: true })
    await expect(row.locator('[data-version^="version 3 goes live, by "]')).toHaveCount(1)
    await expect(page.getByRole('img', { name: /events?, / })).toBeVisible()
    await expect(page.getByRole('status', { name: 'In one sentence' })).toContainText(/ \d\d:\d\d/)
  } finally {
    await api('POST', `/api/publications/${id}/pause`).catch(() => null)
    await api('DELETE', `/api/publications/${id}`)
  }
})
