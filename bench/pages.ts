// What each page costs in Chromium: octets, first useful content, main thread while live, shifts of layout; on the demo's tags and on 20,000.
import type { BrowserContext } from '@playwright/test'
import { places } from '~/views/app/places'
import { openPage, web } from './browser'
import { median, show, sleep } from './common'
import { addMachines } from './machines'

const LIVE_MS = 3000
const TIMES = Number(process.env.EMBRIK_TIMES ?? 3)
const paths = places.map((place) => place.path)

interface Cost {
  /** ms until there is something to read, and nothing is loading. */
  content: number
  /** Octets on the wire: of data, and of all. */
  data: number
  all: number
  /** ms of the main thread in a second, while live. */
  busy: number
  /** Cumulative shift of layout. */
  shift: number
}

/** There is a page, its course shows figures, and nothing says that it is loading. */
const ready = () =>
  document.querySelector('main')?.textContent?.trim() !== '' &&
  document.querySelector('[data-figure="tags"]')?.textContent !== '...' &&
  document.querySelector('[role="status"][aria-label="Loading"]') === null

async function costOf(context: BrowserContext, path: string): Promise<Cost> {
  const page = await context.newPage()
  await page.addInitScript(() => {
    const shifts = { sum: 0 }
    ;(window as unknown as { shifts: typeof shifts }).shifts = shifts
    new PerformanceObserver((list) => {
      for (const entry of list.getEntries() as (PerformanceEntry & { value: number; hadRecentInput: boolean })[])
        if (!entry.hadRecentInput) shifts.sum += entry.value
    }).observe({ type: 'layout-shift', buffered: true })
  })
  const cdp = await context.newCDPSession(page)
  const kinds = new Map<string, boolean>()
  const octets = { data: 0, all: 0 }
  await cdp.send('Network.enable')
  await cdp.send('Performance.enable')
  cdp.on('Network.requestWillBeSent', (e) => kinds.set(e.requestId, new URL(e.request.url).pathname.startsWith('/api/')))
  cdp.on('Network.dataReceived', (e) => {
    octets.all += e.encodedDataLength
    if (kinds.get(e.requestId)) octets.data += e.encodedDataLength
  })
  const began = performance.now()
  await page.goto(web + path, { waitUntil: 'commit' })
  await page.waitForFunction(ready, undefined, { polling: 'raf', timeout: 60_000 })
  const content = performance.now() - began
  await sleep(1000)
  const at = { ...octets }
  const before = await busyMs(cdp)
  await sleep(LIVE_MS)
  const busy = ((await busyMs(cdp)) - before) / (LIVE_MS / 1000)
  const shift = await page.evaluate(() => (window as unknown as { shifts: { sum: number } }).shifts.sum)
  await page.close()
  return { content, data: at.data, all: at.all, busy, shift }
}

async function busyMs(cdp: Awaited<ReturnType<BrowserContext['newCDPSession']>>): Promise<number> {
  const { metrics } = await cdp.send('Performance.getMetrics')
  return (metrics.find((m) => m.name === 'TaskDuration')?.value ?? 0) * 1000
}

async function measured(context: BrowserContext): Promise<Map<string, Cost>> {
  const out = new Map<string, Cost>()
  for (const path of paths) {
    const all: Cost[] = []
    for (let i = 0; i < TIMES; i++) all.push(await costOf(context, path))
    const mid = (of: (c: Cost) => number) => median(all.map(of))
    out.set(path, {
      content: mid((c) => c.content),
      data: mid((c) => c.data),
      all: mid((c) => c.all),
      busy: mid((c) => c.busy),
      shift: Math.max(...all.map((c) => c.shift)),
    })
  }
  return out
}

const { browser, page } = await openPage()
const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, storageState: await page.context().storageState() })
const few = await measured(context)
await addMachines()
await sleep(5000)
const many = await measured(context)
const kB = (n: number) => `${Math.round(n / 1000)}`
show('page: at the demo, then at 20,000 tags', 'content ms (ratio), data kB, all kB, busy ms/s, shift')
for (const path of paths) {
  const [a, b] = [few.get(path)!, many.get(path)!]
  show(
    path,
    `${Math.round(a.content)} → ${Math.round(b.content)} (${(b.content / a.content).toFixed(2)}), ${kB(a.data)} → ${kB(b.data)}, ${kB(a.all)} → ${kB(b.all)}, ${a.busy.toFixed(0)} → ${b.busy.toFixed(0)}, ${Math.max(a.shift, b.shift).toFixed(3)}`,
  )
}
await browser.close()
process.exit(0)
