import { execFile, spawn } from 'node:child_process'
import { mkdtempSync, readFileSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { promisify } from 'node:util'
import { unzipSync } from 'fflate'
import type { Destination } from '~/contract/destination'
import type { ProofRun } from '~/contract/prove'
import { draft } from './draft'
import { api, barriers, demo, expect, logIn, test, web } from './support'

test.describe.configure({ mode: 'serial' })

const NAME = 'proved'
let end = async () => undefined as unknown
let destination = { id: '', name: 'Proved broker' }

/** A publication of its own to a destination of its own, whose links nobody else uses. */
test.beforeAll(async () => {
  const all = await api<Destination[]>('GET', '/api/destinations')
  const { id: _i, version: _v, publicationCount: _c, ...like } = all.find((d) => d.name === 'Site broker')!
  const settings = { ...like.settings, clientId: 'proved', witnessClientId: 'proved-witness' }
  destination = await api('POST', '/api/destinations', { ...like, name: destination.name, settings })
  const p = await draft(NAME, { destinationId: destination.id })
  await api('POST', `/api/publications/${p.id}/live`, {
    accepted: (
      await api<{ findings: { section: string; message: string; severity: string }[] }[]>('POST', '/api/publications/preflight', { ids: [p.id] })
    )[0]!.findings
      .filter((f) => f.severity === 'warns')
      .map(({ section, message }) => ({ section, message })),
  })
  end = async () => {
    for (const run of await api<ProofRun[]>('GET', '/api/proof-runs')) await api('DELETE', `/api/proof-runs/${run.id}`)
    await p.end()
    await api('DELETE', `/api/destinations/${destination.id}`)
  }
})
test.afterAll(() => end())

test('a proof run: chosen, begun, watched, and its signed report taken away and checked', async ({ page }) => {
  await logIn(page)
  await page.goto('/proof/runs')
  await expect(page.getByRole('heading', { name: 'No proof run yet' })).toBeVisible()
  expect(await barriers(page)).toEqual([])
  await page.getByRole('button', { name: 'New proof run' }).first().click()
  const form = page.getByRole('dialog', { name: 'New proof run' })
  await form.getByRole('button', { name: 'Begin the run' }).click()
  await expect(form.getByText('Which publications?')).toBeVisible()
  await form.getByLabel('Name', { exact: true }).fill('Acceptance')
  await form.getByRole('checkbox', { name: NAME }).check()
  await form.getByLabel('For', { exact: true }).fill('8')
  await form.getByRole('button', { name: 'Add a fault' }).click()
  const fault = form.getByRole('group', { name: 'Fault 1' })
  await fault.getByLabel('After').fill('9')
  await expect(fault.getByText('The run is over after 8 s')).toBeVisible()
  await fault.getByLabel('After').fill('2')
  await fault.getByLabel('Lasts').fill('1')
  await form.getByLabel('Well again within, s').fill('60')
  await form.getByLabel('doubled, at most').fill('')
  await expect(form.getByRole('status')).toHaveText('8 s of 1 publication, with 1 fault')
  expect(await barriers(page)).toEqual([])
  await form.getByRole('button', { name: 'Begin the run' }).click()
  await expect(page.getByRole('progressbar', { name: 'Of the run' })).toBeVisible()
  await expect(page.getByText(/cut off for 1 s/).first()).toBeVisible()
  await expect(page.locator('[data-sentence]')).toHaveText('Acceptance: every limit was held', { timeout: 90_000 })
  await expect(page.getByRole('list', { name: 'Limits' })).toContainText('0 missing messages, at most 0 are allowed')
  await expect(page.getByRole('list', { name: 'Faults' })).toContainText('well again')
  expect(await barriers(page)).toEqual([])
  const waiting = page.waitForEvent('download')
  await page.getByRole('link', { name: 'All, signed (zip)' }).click()
  const files = unzipSync(readFileSync((await (await waiting).path())!))
  const dir = mkdtempSync(join(tmpdir(), 'embrik-proof-'))
  for (const [name, body] of Object.entries(files)) writeFileSync(join(dir, name), body)
  for (const part of ['json', 'html', 'pdf']) {
    const of = `report.${part}`
    const { stdout } = await promisify(execFile)('openssl', ['dgst', '-sha256', '-verify', 'plant-key.pem', '-signature', `${of}.sig`, of], {
      cwd: dir,
    })
    expect(stdout.trim()).toBe('Verified OK')
  }
  // The page that is handed over stands alone.
  await page.goto(`file://${join(dir, 'report.html')}`)
  await expect(page.getByRole('heading', { name: 'Acceptance', exact: true })).toBeVisible()
  await expect(page.getByRole('img', { name: /^Latency over the run/ })).toBeVisible()
})

/** Runs a file as a pipeline would. */
function prove(plan: object): Promise<{ code: number | null; said: string; out: string }> {
  const dir = mkdtempSync(join(tmpdir(), 'embrik-prove-'))
  const file = join(dir, 'plan.json')
  writeFileSync(file, JSON.stringify(plan))
  const key = readFileSync(join(demo, 'api-key'), 'utf8').trim()
  const out = join(dir, 'out')
  const child = spawn(process.execPath, ['scripts/prove.mjs', file, '--out', out], { env: { ...process.env, EMBRIK_URL: web, EMBRIK_KEY: key } })
  let said = ''
  for (const stream of [child.stdout, child.stderr]) stream.on('data', (chunk: Buffer) => (said += chunk))
  return new Promise((done) => child.once('exit', (code) => done({ code, said, out })))
}

test('the same from a file: exit code by outcome, report and test results beside it', async ({ page }) => {
  test.setTimeout(180_000)
  const plan = { name: 'Nightly', publications: [NAME], seconds: 5, settleS: 30, limits: { p99Ms: 60_000 } }
  const held = await prove(plan)
  expect(held.said).toContain('Nightly: held')
  expect(held.code).toBe(0)
  expect(readFileSync(join(held.out, 'junit.xml'), 'utf8')).toMatch(/tests="7" failures="0" errors="0" skipped="0"/)
  const broken = await prove({ ...plan, name: 'Too fast', limits: { p99Ms: 1 } })
  expect([broken.code, /broken {3}99 of 100 arrived within/.test(broken.said)]).toEqual([1, true])
  const unproven = await prove({ ...plan, limits: { recoveredS: 5 } })
  expect(unproven.code).toBe(2)
  const wrong = await prove({ ...plan, publications: ['nobody'] })
  expect([wrong.code, wrong.said]).toEqual([4, expect.stringContaining('There is no publication called nobody')])
  const short = await prove({ ...plan, seconds: 1 })
  expect([short.code, short.said]).toEqual([4, expect.stringContaining('At least 5 s')])
  // Both stand beside each other in the interface.
  await logIn(page)
  await page.goto('/proof/runs')
  await page.getByRole('row', { name: /Too fast/ }).click()
  await expect(page.locator('[data-sentence]')).toHaveText('Too fast: a limit was broken')
  await page.getByLabel('Earlier run').selectOption({ index: 1 })
  await expect(page.getByRole('table', { name: 'Differences' })).toBeVisible()
  await page.getByRole('button', { name: 'Remove the run' }).click()
  await page.getByRole('alertdialog').getByRole('button', { name: 'Remove the run' }).click()
  await expect(page.getByRole('row', { name: /Too fast/ })).toHaveCount(0)
})
