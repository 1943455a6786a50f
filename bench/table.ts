// The table of tags in Chromium with 50,000 live tags: scripting a frame while it is scrolled and filtered, and memory after ten minutes.
import { api, openPage, quantiles, traced, web } from './browser'
import { show, sleep } from './common'

const TAGS = 50_000
const minutes = Number(process.env.EMBRIK_BENCH_MINUTES ?? 10)

const { id } = await api<{ id: string }>('/api/sources', {
  name: 'Many',
  kind: 'simulated',
  enabled: true,
  settings: { seed: 1, recording: '', rateMs: 2500, retryMs: 1000 },
})
for (let from = 0; from < TAGS; from += 10_000)
  await api('/api/tags', {
    tags: Array.from({ length: 10_000 }, (_, i) => ({
      name: `Many/Line ${Math.floor((from + i) / 500)}/point ${from + i}`,
      sourceId: id,
      address: 'noise low=0 high=100',
      dataType: 'number',
      unit: i % 2 ? 'bar' : '°C',
    })),
  })

const { browser, page } = await openPage()
const began = performance.now()
await page.goto(`${web}/tags`)
const grid = page.getByRole('grid', { name: 'Tags' })
await grid
  .getByRole('row', { name: /running|point/ })
  .first()
  .waitFor({ timeout: 60_000 })
show('page with 50,000 tags: until rows show', `${((performance.now() - began) / 1000).toFixed(1)} s`)
await sleep(8000)

const cdp = await page.context().newCDPSession(page)
const box = (await page.locator('[data-scroller]').boundingBox())!
await page.mouse.move(box.x + 300, box.y + 300)
show(
  'scrolled by the wheel while live: scripting a frame p50, p95, p99',
  quantiles(
    await traced(browser, page, async () => {
      for (let i = 0; i < 300; i++) {
        await page.mouse.wheel(0, i < 150 ? 160 : -120)
        await sleep(16)
      }
    }),
  ),
)
show(
  'jumped through by the keyboard while live: the same',
  quantiles(
    await traced(browser, page, async () => {
      await grid.focus()
      for (let i = 0; i < 60; i++) {
        await page.keyboard.press(i % 7 === 6 ? 'End' : i % 7 === 5 ? 'Home' : 'PageDown')
        await sleep(60)
      }
    }),
  ),
)
show(
  'filtered letter by letter while live: the same',
  quantiles(
    await traced(browser, page, async () => {
      const filter = page.getByLabel('filter names, units, addresses')
      for (const word of ['line 42', 'point 4999', 'bar']) {
        await filter.pressSequentially(word, { delay: 90 })
        await sleep(500)
        await filter.fill('')
        await sleep(300)
      }
    }),
  ),
)
const heap = async () => {
  await cdp.send('HeapProfiler.collectGarbage')
  const { metrics } = await cdp.send('Performance.getMetrics')
  return metrics.find((m) => m.name === 'JSHeapUsedSize')!.value / 1e6
}
await cdp.send('Performance.enable')
const first = await heap()
const end = Date.now() + minutes * 60_000
while (Date.now() < end) {
  await page.mouse.move(box.x + 300, box.y + 300)
  await page.mouse.wheel(0, 400)
  await sleep(1000)
}
show(`memory of the page's scripts: at first, after ${minutes} minutes of live scrolling`, `${first.toFixed(0)} MB, ${(await heap()).toFixed(0)} MB`)
await browser.close()
process.exit(0)
