// What measurements in Chromium share: log-in, calls to the API, scripting time a frame.
import { readFileSync } from 'node:fs'
import { join } from 'node:path'
import { type Browser, chromium, type Page } from '@playwright/test'

export const web = `http://127.0.0.1:${process.env.EMBRIK_PORT_BASE}`
const key = () => readFileSync(join(process.env.EMBRIK_DEMO_DIR!, 'api-key'), 'utf8').trim()

export async function api<T>(path: string, body: unknown): Promise<T> {
  const response = await fetch(`${web}${path}`, {
    method: 'POST',
    headers: { authorization: `Bearer ${key()}`, 'content-type': 'application/json' },
    body: JSON.stringify(body),
  })
  if (!response.ok) throw new Error(`${path}: ${response.status} ${await response.text()}`)
  return (await response.json()) as T
}

/** A page of somebody who is logged in. */
export async function openPage(): Promise<{ browser: Browser; page: Page }> {
  const browser = await chromium.launch({ executablePath: process.env.EMBRIK_CHROMIUM!, args: JSON.parse(process.env.EMBRIK_BROWSER_ARGS ?? '[]') })
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 } })
  const [login, password] = JSON.parse(process.env.EMBRIK_LOGIN!) as [string, string]
  await page.goto(`${web}/login`)
  await page.getByLabel('Log-in').fill(login)
  await page.getByLabel('Password').fill(password)
  await page.getByRole('button', { name: 'Log in' }).click()
  await page.waitForURL((url) => !url.pathname.startsWith('/login'))
  return { browser, page }
}

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
export async function traced(browser: Browser, page: Page, work: () => Promise<void>): Promise<number[]> {
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

/** p50, p95, p99. */
export const quantiles = (list: number[]) => {
  const sorted = [...list].sort((a, b) => a - b)
  const at = (q: number) => (sorted[Math.min(sorted.length - 1, Math.floor(sorted.length * q))] ?? 0).toFixed(1)
  return `${at(0.5)}, ${at(0.95)}, ${at(0.99)} ms (${sorted.length} frames)`
}
