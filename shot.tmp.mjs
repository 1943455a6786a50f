import { chromium as pw } from 'playwright-core'
import { browserArgs } from './scripts/lib/browser.mjs'
import { chromium } from './scripts/lib/packages.mjs'

const base = 'http://127.0.0.1:7900'
const [, , out, path, ...rest] = process.argv
const opts = Object.fromEntries(rest.map((r) => r.split('=')))
const b = await pw.launch({ executablePath: chromium(), args: browserArgs })
const ctx = await b.newContext({ viewport: { width: Number(opts.w ?? 1280), height: Number(opts.h ?? 800) } })
const page = await ctx.newPage()
page.on('console', (m) => m.type() === 'error' && console.log('console', m.text()))
page.on('pageerror', (e) => console.log('pageerror', e.message))
await page.goto(base + '/login')
await page.evaluate(async () =>
  fetch('/api/session', {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ login: 'ines', password: 'varnmoor-engineer-2' }),
  }),
)
await page.goto(base + path)
if (opts.dark) await page.evaluate(() => document.documentElement.setAttribute('data-theme', 'dark'))
await page.waitForTimeout(Number(opts.wait ?? 6000))
if (opts.click)
  for (const c of opts.click.split(';')) {
    await page.getByText(c).first().click()
    await page.waitForTimeout(4000)
  }
if (opts.row) {
  await page.getByRole('row').nth(Number(opts.row)).click()
  await page.waitForTimeout(5000)
}
await page.screenshot({ path: out })
await b.close()
