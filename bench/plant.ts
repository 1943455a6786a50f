// The plant and its coverage in Chromium with 10,000 equipment of 12 members, live: scripting a frame while they are scrolled and filtered.
import { randomUUID } from 'node:crypto'
import { api, openPage, quantiles, traced, web } from './browser'
import { show, sleep } from './common'

const EQUIPMENT = 10_000
const KEYS = ['speed', 'current', 'torque', 'temperature', 'pressure', 'flow', 'level', 'power', 'vibration', 'position', 'count', 'running']
/** As many members of each have a tag. */
const TAGGED = 5

const { id: sourceId } = await api<{ id: string }>('/api/sources', {
  name: 'Many',
  kind: 'simulated',
  enabled: true,
  settings: { seed: 1, recording: '', rateMs: 2500, retryMs: 1000 },
})
const tags: { id: string }[] = []
for (let from = 0; from < EQUIPMENT * TAGGED; from += 10_000)
  tags.push(
    ...(await api<{ id: string }[]>('/api/tags', {
      tags: Array.from({ length: 10_000 }, (_, i) => ({
        name: `Many/Machine ${Math.floor((from + i) / TAGGED)}/${KEYS[i % TAGGED]}`,
        sourceId,
        address: 'noise low=0 high=100',
        dataType: 'number',
      })),
    })),
  )
const cls = await api<{ id: string; members: { id: string }[] }>('/api/classes', {
  name: 'Machine',
  members: KEYS.map((k) => ({ key: k, label: k, dataType: 'number', unit: '' })),
})
const [top, site] = [randomUUID(), randomUUID()]
const halls = Array.from({ length: 20 }, () => randomUUID())
await api('/api/equipment/edit', {
  add: [
    { id: top, name: 'Greater Varnmoor', parentId: null, level: 'enterprise' },
    { id: site, name: 'Upper Pit', parentId: top, level: 'site' },
    ...halls.map((id, i) => ({ id, name: `Hall ${i + 1}`, parentId: site, level: 'area' })),
    ...Array.from({ length: EQUIPMENT }, (_, i) => ({
      name: `Machine ${i}`,
      parentId: halls[i % halls.length],
      level: 'work centre',
      classId: cls.id,
      bindings: Object.fromEntries(Array.from({ length: TAGGED }, (_, m) => [cls.members[m]!.id, { kind: 'tag', tagId: tags[i * TAGGED + m]!.id }])),
    })),
  ],
})
const { browser, page } = await openPage()
const wheel = async (count: number) => {
  for (let i = 0; i < count; i++) {
    await page.mouse.wheel(0, i < count / 2 ? 160 : -120)
    await sleep(16)
  }
}
let began = performance.now()
await page.goto(`${web}/equipment`)
const plant = page.getByRole('tree', { name: 'Plant' })
await plant.getByRole('treeitem').first().waitFor({ timeout: 60_000 })
show('plant of 10,000 equipment: until it shows', `${((performance.now() - began) / 1000).toFixed(1)} s`)
await page.getByLabel('filter equipment').fill('machine')
await plant
  .getByRole('treeitem', { name: /^Machine/ })
  .first()
  .waitFor({ timeout: 30_000 })
await sleep(5000)
const tree = (await plant.boundingBox())!
await page.mouse.move(tree.x + 60, tree.y + 200)
show('its tree scrolled while live: scripting a frame p50, p95, p99', quantiles(await traced(browser, page, () => wheel(300))))
show(
  'filtered letter by letter: the same',
  quantiles(
    await traced(browser, page, async () => {
      for (const word of ['machine 42', 'hall 7', 'zone']) {
        await page.getByLabel('filter equipment').fill('')
        await page.getByLabel('filter equipment').pressSequentially(word, { delay: 90 })
        await sleep(400)
      }
    }),
  ),
)
began = performance.now()
await page.goto(`${web}/equipment/coverage`)
await page
  .getByRole('button', { name: /^Machine/ })
  .first()
  .click({ timeout: 60_000 })
const grid = page.getByRole('grid').first()
await grid
  .getByRole('row', { name: /^Machine/ })
  .first()
  .waitFor({ timeout: 60_000 })
show('coverage of 10,000: until it shows', `${((performance.now() - began) / 1000).toFixed(1)} s`)
await sleep(5000)
const cells = (await grid.boundingBox())!
await page.mouse.move(cells.x + 300, cells.y + 200)
show('coverage scrolled while live: scripting a frame p50, p95, p99', quantiles(await traced(browser, page, () => wheel(300))))
await browser.close()
process.exit(0)
