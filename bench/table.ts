// The table of tags in Chromium with 50,000 live tags: scripting a frame while it is scrolled and filtered, and memory after ten minutes.
import { readFileSync } from 'node:fs'
import { join } from 'node:path'
import { chromium } from '@playwright/test'
import { show, sleep } from './common'

const TAGS = 50_000
const web = `http://127.0.0.1:${process.env.EMBRIK_PORT_BASE}`
const minutes = Number(process.env.EMBRIK_BENCH_MINUTES ?? 10)
const demo = process.env.EMBRIK_DEMO_DIR!
const key = readFileSync(join(demo, 'api-key'), 'utf8').trim()

async function api<T>(path: string, body: unknown): Promise<T> {
  const response = await fetch(`${web}${path}`, {
    method: 'POST',
    headers: { authorization: `Bearer ${key}`, 'content-type': 'application/json' },
    body: JSON.stringify(body),
  })
  if (!response.ok) throw new Error(`${path}: ${response.status} ${await response.text()}`)
  return (await response.json()) as T
}

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

const browser = await chromium.launch({ executablePath: process.env.EMBRIK_CHROMIUM!, args: JSON.parse(process.env.EMBRIK_BROWSER_ARGS ?? '[]') })
const page = await browser.newPage({ viewport: { width: 1280, height: 800 } })
const [login, password] = JSON.parse(process.env.EMBRIK_LOGIN!) as [string, string]
await page.goto(`${web}/login`)
await page.getByLabel('Log-in').fill(login)
await page.getByLabel('Password').fill(password)
await page.getByRole('button', { name: 'Log in' }).click()
await page.waitForURL((url) => !url.pathname.startsWith('/login'))
const began = performance.now()
await page.goto(`${web}/tags`)
const grid = page.getByRole('grid', { name: 'Tags' })
await grid
  .getByRole('row', { name: /running|point/ })
  .first()
  .waitFor({ timeout: 60_000 })
show('page with 50,000 tags: until rows show', `${((performance.now() - began) / 1000).toFixed(1)} s`)
await sleep(8000)

interface TraceEvent {
  name: string
  ph: string
  ts: number
  dur?: number
  /** Time of the processor, us. */
  tdur?: number
  pid: number
  tid: number
  args?: { name?: string; data?: { type?: string } }
}
/** What Chromium counts as scripting; compiling and collecting garbage too. */
const scripting = new Set([
  'EvaluateScript',
  'FunctionCall',
  'TimerFire',
  'FireAnimationFrame',
  'EventDispatch',
  'RunMicrotasks',
  'XHRReadyStateChange',
  'HandlePostMessage',
  'v8.compile',
  'V8.GC_SCAVENGER',
  'MinorGC',
  'MajorGC',
])

/** Runs something while Chromium traces, and gives ms of scripting in each frame of the page's main thread. */
async function traced(work: () => Promise<void>): Promise<number[]> {
  await browser.startTracing(page, {
    categories: ['devtools.timeline', 'v8', 'disabled-by-default-v8.gc', 'disabled-by-default-devtools.timeline.frame', '__metadata'],
  })
  await work()
  const { traceEvents: events } = JSON.parse((await browser.stopTracing()).toString()) as { traceEvents: TraceEvent[] }
  const mains = new Set(events.filter((e) => e.name === 'thread_name' && e.args?.name === 'CrRendererMain').map((e) => `${e.pid} ${e.tid}`))
  const perMain = [...mains].map((m) => events.filter((e) => `${e.pid} ${e.tid}` === m))
  const own = perMain.sort((a, b) => b.length - a.length)[0] ?? []
  const frames = own
    .filter((e) => e.name === 'BeginMainThreadFrame')
    .map((e) => e.ts)
    .sort((a, b) => a - b)
  const runs = own.filter((e) => e.ph === 'X' && scripting.has(e.name) && e.dur).sort((a, b) => a.ts - b.ts)
  const out = new Array<number>(Math.max(0, frames.length - 1)).fill(0)
  let until = 0
  let f = 0
  for (const r of runs) {
    // Nested ones are in the outer one already. Time of the processor where it is known: on a busy machine the clock counts others' work.
    if (r.ts < until) continue
    until = r.ts + r.dur!
    while (f < out.length && frames[f + 1]! <= r.ts) f++
    if (f < out.length && r.ts >= frames[0]!) out[f]! += (r.tdur ?? r.dur!) / 1000
  }
  return out
}
const cdp = await page.context().newCDPSession(page)
const quantiles = (list: number[]) => {
  const sorted = [...list].sort((a, b) => a - b)
  const at = (q: number) => (sorted[Math.min(sorted.length - 1, Math.floor(sorted.length * q))] ?? 0).toFixed(1)
  return `${at(0.5)}, ${at(0.95)}, ${at(0.99)} ms (${sorted.length} frames)`
}
const box = (await page.locator('[data-scroller]').boundingBox())!
await page.mouse.move(box.x + 300, box.y + 300)
show(
  'scrolled by the wheel while live: scripting a frame p50, p95, p99',
  quantiles(
    await traced(async () => {
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
    await traced(async () => {
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
    await traced(async () => {
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
