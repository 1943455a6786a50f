import { appendFileSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import Axe from '@axe-core/playwright'
import { test as base, expect, type Page } from '@playwright/test'

export const port = Number(process.env.EMBRIK_E2E_BASE ?? 5600)
export const home = process.env.EMBRIK_E2E_HOME ?? ''
export const demo = join(home, 'demo')
export const panel = `http://127.0.0.1:${port + 10}`
export const web = `http://127.0.0.1:${port}`
export const answersFile = join(home, 'answers.log')

export const people = {
  administrator: ['odo', 'varnmoor-admin-1'],
  engineer: ['ines', 'varnmoor-engineer-2'],
  operator: ['tam', 'varnmoor-operator-3'],
  viewer: ['vera', 'varnmoor-viewer-4'],
} as const

/** Every page there is, by its path. */
export const pages = [
  '/proof/wrong',
  '/proof',
  '/proof/beside',
  '/proof/runs',
  '/proof/hop',
  '/proof/journal',
  '/proof/events',
  '/proof/clocks',
  '/sources',
  '/sources/browse',
  '/sources/registers',
  '/sources/topics',
  '/tags',
  '/equipment',
  '/equipment/coverage',
  '/equipment/classes',
  '/publications',
  '/destinations',
  '/destinations/credentials',
  '/settings',
  '/settings/account',
  '/settings/audit',
]

/** Logs in as the form does, without it: what a test is about is not its way in. The test goes to a page then. */
export async function logIn(page: Page, role: keyof typeof people = 'engineer'): Promise<void> {
  const [login, password] = people[role]
  const answer = await page.request.post(`${web}/api/session`, { data: { login, password }, headers: { origin: web } })
  expect(answer.status(), await answer.text()).toBe(200)
}

/** Logs in by the form, to the first page. */
export async function logInByForm(page: Page, role: keyof typeof people = 'engineer'): Promise<void> {
  await page.goto('/login')
  await page.getByLabel('Log-in').fill(people[role][0])
  await page.getByLabel('Password').fill(people[role][1])
  await page.getByRole('button', { name: 'Log in' }).click()
  await page.waitForURL((url) => !url.pathname.startsWith('/login'))
}

/** A page on which no script may fail and nothing may be refused by the security policy. */
export const test = base.extend({
  page: async ({ page }, use) => {
    const wrong: string[] = []
    page.on('pageerror', (e) => wrong.push(e.message))
    page.on('console', (m) => {
      if (m.type() === 'error' && /Content Security Policy|Uncaught|hydrat/i.test(m.text())) wrong.push(m.text())
    })
    // Everything that pages were answered is kept, for the search for secrets at the end; but for keys, which are shown once.
    page.on('response', (r) => {
      if (!r.url().startsWith(web) || /text\/event-stream/.test(r.headers()['content-type'] ?? '')) return
      if (r.request().method() === 'POST' && r.url().endsWith('/api/keys')) return
      if (!/json|html/.test(r.headers()['content-type'] ?? '')) return
      void r.text().then(
        (body) => appendFileSync(answersFile, `${r.url()} ${body}\n`),
        () => undefined,
      )
    })
    await use(page)
    expect(wrong).toEqual([])
  },
})

const key = () => readFileSync(join(demo, 'api-key'), 'utf8').trim()

/** Calls the API as a script would. */
export async function api<T = unknown>(method: string, path: string, body?: unknown): Promise<T> {
  const response = await fetch(`${web}${path}`, {
    method,
    headers: { authorization: `Bearer ${key()}`, ...(body !== undefined && { 'content-type': 'application/json' }) },
    ...(body !== undefined && { body: JSON.stringify(body) }),
  })
  if (!response.ok) throw new Error(`${method} ${path}: ${response.status} ${await response.text()}`)
  return (response.status === 204 ? undefined : await response.json()) as T
}

export async function tellPanel(path: string, body: unknown, method: 'POST' | 'PUT' = 'POST'): Promise<void> {
  const response = await fetch(`${panel}${path}`, { method, headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) })
  if (!response.ok) throw new Error(`${path}: ${response.status} ${await response.text()}`)
}

export interface Line {
  publication: string
  counts: Record<'produced' | 'stored' | 'sent' | 'acknowledged' | 'arrived' | 'missing' | 'doubled' | 'waiting' | 'dropped' | 'unknown', number>
}
export const ledger = () => api<Line[]>('GET', '/api/ledger')

/** The ledger's sum over all publications. */
export async function sums(): Promise<Line['counts']> {
  const all: Record<string, number> = {}
  for (const l of await ledger()) for (const [k, n] of Object.entries(l.counts)) all[k] = (all[k] ?? 0) + n
  return all as Line['counts']
}

export { expect }

/** What keeps somebody from using what is on the screen, by the rules of WCAG that a program can judge. */
export function barriers(page: Page, rules?: readonly string[]): Promise<string[]> {
  // A note that goes away by itself may fade while it is looked at.
  const axe = lookOver(page).exclude(NOTES)
  return barriersBy(rules ? axe.withRules([...rules]) : axe)
}

/** The same of the note that is shown just now, in the light and in the dark. It stays as long as the pointer is on it. */
export async function barriersOfNote(page: Page): Promise<string[]> {
  await page.locator('[data-sonner-toast]').first().hover()
  const found: string[] = []
  for (const theme of ['dark', 'light']) {
    await page.evaluate((t) => void (document.documentElement.dataset.theme = t), theme)
    found.push(...(await barriersBy(lookOver(page).include(NOTES))))
  }
  return found
}

const NOTES = '[data-sonner-toaster]'
/** Of what is right nothing is wanted but that it is. */
const lookOver = (page: Page) => new Axe({ page }).options({ resultTypes: ['violations'], preload: false }).setLegacyMode()

async function barriersBy(axe: Axe): Promise<string[]> {
  const { violations } = await axe.analyze()
  return violations.flatMap((v) => v.nodes.map((n) => `${v.id}: ${n.target.join(' ')}: ${n.any[0]?.message ?? n.all[0]?.message ?? v.help}`))
}

/** All of a stand-in's log, page by page: on a slow machine there is a lot of it before anything goes wrong. */
export async function wholeLog<A extends { n: number }, C = never>(
  device: 'broker' | 'stream' | 'receiver',
): Promise<{ arrivals: A[]; copies: C[] }> {
  const arrivals: A[] = []
  const copies: C[] = []
  for (;;) {
    const answer = await fetch(`${panel}/api/${device}/log?after=${arrivals.at(-1)?.n ?? 0}`)
    const page = (await answer.json()) as { arrivals: A[]; copies?: C[] }
    if (page.arrivals.length === 0) return { arrivals, copies }
    arrivals.push(...page.arrivals)
    copies.push(...(page.copies ?? []))
  }
}

/** Goes live, and lives with everything that the preflight warns of. */
export async function goLive(page: Page, only = /^Accept:/): Promise<void> {
  const went = page.waitForResponse((r) => r.request().method() === 'POST' && r.url().endsWith('/live'), { timeout: 60_000 })
  const dialog = page.getByRole('dialog')
  const warned = dialog.getByRole('button', { name: 'Go live' })
  await page.getByRole('button', { name: 'Go live' }).click()
  const first = await Promise.race([went.then(() => 'went'), warned.waitFor({ timeout: 60_000 }).then(() => 'warned')])
  if (first === 'went') return
  const boxes = await dialog.getByRole('checkbox', { name: /^Accept:/ }).all()
  expect(await dialog.getByRole('checkbox', { name: only }).count()).toBe(boxes.length)
  for (const box of boxes) await box.check()
  await warned.click()
  await went
  await expect(dialog).toBeHidden()
}
