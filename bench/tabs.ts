// Twelve tabs of one browser on 20,000 tags: whether any request waits for its turn; and pages that stay live, whether they grow.
import type { BrowserContext, CDPSession, Page } from '@playwright/test'
import { places } from '~/views/app/places'
import { openPage, web } from './browser'
import { show, sleep } from './common'
import { addMachines } from './machines'

const TABS = 12
const TABS_S = Number(process.env.EMBRIK_TABS_S ?? 120)
/** So long the first of them are taken to begin, s. */
const BEGIN_S = 20
const LIVE_S = Number(process.env.EMBRIK_LIVE_S ?? 300)
const LIVE_PATHS = ['/tags', '/proof', '/sources']

/** What one request took, ms: in line before it was sent, and until it was answered; and when it was asked, epoch ms. */
interface Request {
  line: number
  answer: number
  at: number
}

/** Notes each request that ends, and asks for something small once a second, as somebody who works would. */
const watch = () => {
  const took: Request[] = []
  Object.assign(window, { took })
  new PerformanceObserver((list) => {
    for (const e of list.getEntries() as PerformanceResourceTiming[]) {
      // A stream has no end, and what came from the cache was not sent.
      if (e.requestStart === 0 || e.responseEnd === 0 || e.name.includes('/api/live')) continue
      took.push({ line: e.requestStart - e.fetchStart, answer: e.responseEnd - e.requestStart, at: performance.timeOrigin + e.fetchStart })
    }
  }).observe({ type: 'resource', buffered: true })
  setInterval(() => void fetch('/api/session').then((r) => r.text()), 1000)
}

const at = (sorted: readonly number[], share: number) => Math.round(sorted[Math.min(sorted.length - 1, Math.floor(share * sorted.length))] ?? 0)
const spread = (all: readonly number[]) => {
  const sorted = [...all].sort((a, b) => a - b)
  return `median ${at(sorted, 0.5)}, 99 of 100 within ${at(sorted, 0.99)}, longest ${at(sorted, 1)} ms`
}

async function tabs(context: BrowserContext): Promise<void> {
  const all: Page[] = []
  for (let i = 0; i < TABS; i++) {
    const page = await context.newPage()
    await page.addInitScript(watch)
    await page.goto(web + places[i % places.length]!.path, { waitUntil: 'commit' })
    all.push(page)
  }
  const begun = Date.now()
  const took: Request[] = []
  const collect = async (page: Page) => {
    took.push(...(await page.evaluate(() => (window as unknown as { took: Request[] }).took)))
  }
  // Tabs go on to other pages in turn, as somebody who works in several does.
  for (let turn = 0; Date.now() - begun < TABS_S * 1000; turn++) {
    await sleep(5000)
    const page = all[turn % TABS]!
    await collect(page)
    await page.goto(web + places[(turn * 5 + 3) % places.length]!.path, { waitUntil: 'commit' })
  }
  for (const page of all) {
    await collect(page)
    await page.close()
  }
  // Twelve that begin at once want more of two cores than there is: that is told apart.
  const parts: [string, Request[]][] = [
    [`${TABS} tabs begin at once`, took.filter((r) => r.at - begun < BEGIN_S * 1000)],
    [`${TABS} tabs from then to ${TABS_S} s, one goes to another page every 5 s`, took.filter((r) => r.at - begun >= BEGIN_S * 1000)],
  ]
  for (const [label, of] of parts) {
    show(`${label}, ${of.length} requests: in line`, spread(of.map((r) => r.line)))
    show('  until they are answered', spread(of.map((r) => r.answer)))
  }
}

async function held(cdp: CDPSession): Promise<{ heap: number; nodes: number }> {
  await cdp.send('HeapProfiler.collectGarbage')
  const { metrics } = await cdp.send('Performance.getMetrics')
  const of = (name: string) => metrics.find((m) => m.name === name)?.value ?? 0
  return { heap: of('JSHeapUsedSize') / 1e6, nodes: of('Nodes') }
}

async function live(context: BrowserContext): Promise<void> {
  const pages = await Promise.all(
    LIVE_PATHS.map(async (path) => {
      const page = await context.newPage()
      await page.goto(web + path)
      const cdp = await context.newCDPSession(page)
      await cdp.send('Performance.enable')
      await cdp.send('HeapProfiler.enable')
      return { path, cdp, seen: [] as { heap: number; nodes: number }[] }
    }),
  )
  for (let minute = 0; minute <= LIVE_S / 60; minute++) {
    await sleep(minute === 0 ? 15_000 : 60_000)
    for (const page of pages) page.seen.push(await held(page.cdp))
  }
  for (const { path, seen } of pages)
    show(
      `${path} live for ${LIVE_S} s`,
      `heap ${seen.map((s) => s.heap.toFixed(1)).join(', ')} MB; nodes ${seen.map((s) => Math.round(s.nodes)).join(', ')}`,
    )
}

const { browser, page } = await openPage()
const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, storageState: await page.context().storageState() })
await page.close()
await addMachines()
await sleep(5000)
await tabs(context)
await live(context)
await browser.close()
process.exit(0)
