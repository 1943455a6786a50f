import type { Publication } from '~/contract/publication'
import { draft } from './draft'
import { api, barriers, expect, goLive, logIn, tellPanel, test } from './support'

test('the hop at which something stops is named, one click from where one is, and is gone when it is mended', async ({ page }) => {
  const d = await draft('walked')
  try {
    await logIn(page)
    await page.goto(`/publications?id=${d.id}`)
    await goLive(page)
    await page.getByRole('button', { name: 'Find the hop' }).click()
    const answer = page.getByRole('status', { name: 'Where it stops' })
    await expect(answer).toHaveText('Nothing is in the way: what is made arrives')
    const hops = page.getByRole('list', { name: 'Hop by hop' }).getByRole('listitem')
    await expect(hops.first()).toHaveAccessibleName('Source: gets past')
    await expect(hops.last()).toHaveAccessibleName('Far end: gets past')
    expect(await barriers(page)).toEqual([])

    await tellPanel('/api/broker/cut', { seconds: 30 })
    await expect(answer).toContainText('It stops at the connection')
    const stop = page.getByRole('listitem', { name: 'Connection: stops here' })
    await expect(stop).toHaveAttribute('aria-current', 'step')
    expect(await barriers(page)).toEqual([])
    await expect(answer).toContainText('Nothing is in the way', { timeout: 120_000 })

    await api('POST', `/api/publications/${d.id}/pause`)
    await expect(answer).toContainText('It stops at the publication walked: It is paused')
    // From the hop to where it is mended.
    await page.getByRole('link', { name: 'walked' }).click()
    await expect(page).toHaveURL(new RegExp(`/publications\\?id=${d.id}`))
  } finally {
    await d.end()
  }
})

test('a tag, a destination, or whatever else is asked for by name', async ({ page }) => {
  const [tag] = await api<{ id: string; name: string }[]>('GET', '/api/find?q=temperature').then((all) =>
    (all as { kind: string; id: string; name: string }[]).filter((f) => f.kind === 'tag'),
  )
  await logIn(page, 'viewer')
  await page.goto('/proof/hop')
  const list = page.getByRole('list', { name: 'What can be asked for' })
  const all = await api<Publication[]>('GET', '/api/publications')
  await expect(list.getByRole('link', { name: all[0]!.name })).toBeVisible()
  await page.getByPlaceholder('a tag, publication or destination').fill(tag!.name)
  await list.getByRole('link', { name: tag!.name }).first().click()
  await expect(page.getByRole('status', { name: 'Where it stops' })).toContainText(/\w/)
  await page.getByRole('link', { name: 'Ask for another' }).click()
  await page.getByPlaceholder('a tag, publication or destination').fill('nothing is called so')
  await expect(page.getByText('Nothing is called so')).toBeVisible()
  await page.goto('/proof/hop?of=tag&id=01a208ce-85ce-7000-ab1f-2ce1c1e2c52f')
  await expect(page.getByText('There is no such tag')).toBeVisible()
})
