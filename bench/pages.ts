// What each page costs in Chromium: octets, first useful content, main thread while live, shifts of layout; on the demo's tags and on 20,000.
import type { Browser, BrowserContext } from '@playwright/test'
import { places } from '~/views/app/places'
import { openPage, web } from './browser'
import { median, show, sleep } from './common'
import { addMachines } from './machines'

const LIVE_MS = 3000
const TIMES = Number(process.env.EMBRIK_TIMES ?? 3)
/** Those that are asked for; all, where none is. */
const paths = process.env.EMBRIK_PATHS?.split(' ') ?? places.map((place) => place.path)

type StorageState = Awaited<ReturnType<BrowserContext['storageState']>>

interface Cost {
  /** ms until there is something to read, and nothing is loading: where nothing is kept, and where the browser has it. */
  first: number
  content: number
  /** Octets on the wire where nothing is kept: of data, and of all. */
  data: number
  all: number
  /** ms of the main thread in a second, while live. */
  busy: number
  /** Cumulative shift of layout. */
  shift: number
}

/** There is a page, its course shows figures, and nothing says that it is loading. */
const ready = () => {
  const text = (selector: string) => document.querySelector(selector)?.textContent?.trim() ?? ''
  return (
    text('main') !== '' &&
    !['', '...'].includes(text('[data-figure="tags"]')) &&
    document.querySelector('[role="status"][aria-label="Loading"]') === null
  )
}

async function costOf(context: BrowserContext, path: string): Promise<Omit<Cost, 'first'>> {
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

/** Each page as somebody sees it who was never there, in a browser of its own, and then as the one who comes again. */
async function measured(browser: Browser, storageState: StorageState): Promise<Map<string, Cost>> {
  const out = new Map<string, Cost>()
  const begin = () => browser.newContext({ viewport: { width: 1280, height: 800 }, storageState })
  const again = await begin()
  for (const path of paths) {
    const first: Omit<Cost, 'first'>[] = []
    const all: typeof first = []
    for (let i = 0; i < TIMES; i++) {
      const fresh = await begin()
      first.push(await costOf(fresh, path))
      await fresh.close()
    }
    for (let i = 0; i <= TIMES; i++) all.push(await costOf(again, path))
    const mid = (of: (c: Omit<Cost, 'first'>) => number) => median(all.slice(1).map(of))
    const midFirst = (of: (c: Omit<Cost, 'first'>) => number) => median(first.map(of))
    out.set(path, {
      first: midFirst((c) => c.content),
      content: mid((c) => c.content),
      data: midFirst((c) => c.data),
      all: midFirst((c) => c.all),
      busy: mid((c) => c.busy),
      shift: Math.max(...[...first, ...all].map((c) => c.shift)),
    })
  }
  await again.close()
  return out
}

const { browser, page } = await openPage()
const state = await page.context().storageState()
const few = await measured(browser, state)
await addMachines()
await sleep(5000)
const many = await measured(browser, state)
const kB = (n: number) => `${Math.round(n / 1000)}`
const ms = (x: number, y: number) => `${Math.round(x)} → ${Math.round(y)} (${(y / x).toFixed(2)})`
show('page: at the demo, then at 20,000 tags', 'content ms the first time (ratio), again (ratio); data kB, all kB the first time; busy ms/s, shift')
for (const path of paths) {
  const [a, b] = [few.get(path)!, many.get(path)!]
  show(
    path,
    `${ms(a.first, b.first)}, ${ms(a.content, b.content)}; ${kB(a.data)} → ${kB(b.data)}, ${kB(a.all)} → ${kB(b.all)}; ${a.busy.toFixed(0)} → ${b.busy.toFixed(0)}, ${Math.max(a.shift, b.shift).toFixed(3)}`,
  )
}
await browser.close()
process.exit(0)
