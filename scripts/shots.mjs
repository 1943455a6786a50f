// Renews docs/screenshots from the demo data, on ports and a database of its own. `npm run shots -- tags proof` renews only those.
import { mkdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import { logIn, openBrowser } from './lib/browser.mjs'
import { build, stale } from './lib/build.mjs'
import { homeFolder, root } from './lib/home.mjs'
import { portBase } from './lib/ports.mjs'
import { startDemoStack } from './lib/stack.mjs'
import { giveUp, step } from './lib/steps.mjs'

const only = process.argv.slice(2)
const folder = join(root, 'docs', 'screenshots')
mkdirSync(folder, { recursive: true })

let stack
try {
  const base = portBase() + 1200
  const home = join(homeFolder(), 'shots')
  if (stale(root)) await step('Build', () => build(root))
  stack = await startDemoStack({ base, home, fresh: true, quiet: true })
  const web = `http://127.0.0.1:${base}`
  const key = readFileSync(join(home, 'demo', 'api-key'), 'utf8').trim()
  const api = (path) => fetch(`${web}${path}`, { headers: { authorization: `Bearer ${key}` } }).then((r) => r.json())
  const browser = await openBrowser()
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 } })
  await logIn(page, web, 'odo', 'varnmoor-admin-1')
  const shot = async (name, path, act = async () => undefined) => {
    if (only.length > 0 && !only.includes(name)) return
    // What one picture typed must not stand in the next one.
    await page.evaluate(() => {
      for (const k of Object.keys(localStorage)) if (k.startsWith('embrik draft')) localStorage.removeItem(k)
    })
    await page.goto(`${web}${path}`)
    await page.locator('[data-figure="sources"]').filter({ hasNotText: '...' }).waitFor()
    await act()
    await page.waitForTimeout(1500)
    await page.screenshot({ path: join(folder, `${name}.png`) })
    console.log(`  ${name}`)
  }
  /** A draft with steps, like a publication that is live; gives its id. */
  const withSteps = async () => {
    const like = (await api('/api/publications')).find((p) => p.name === 'Kiln zones, each change')
    const { id: _i, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...rest } = like
    const code = [
      '// Starts of the burner, counted here',
      'if (message.burner && !state.burner) state.starts = (state.starts ?? 0) + 1',
      'state.burner = message.burner',
      'message.starts = state.starts ?? 0',
      'return message',
    ].join('\n')
    const data = {
      ...rest,
      name: 'Zones, deviations and starts',
      address: { ...rest.address, topic: '{enterprise}/{site}/{area}/{centre}/{unit}/starts' },
      steps: [
        { kind: 'keep', condition: 'burner && temperature > 80.0', unknown: 'pass' },
        { kind: 'set', member: 'deviation', expression: 'round(temperature - setpoint, 1)', unit: 'K' },
        { kind: 'script', code, gives: [{ member: 'starts', dataType: 'integer', unit: '' }] },
      ],
    }
    return (await (await page.request.post(`${web}/api/publications`, { data, headers: { origin: web } })).json()).id
  }
  const theme = (t) => page.evaluate((x) => localStorage.setItem('theme', x), t)
  await theme('light')
  // Let the picture fill: sparklines and bricks need some minutes of values.
  await step('Some minutes of values', () => new Promise((done) => setTimeout(done, Number(process.env.EMBRIK_SHOTS_WAIT_MS ?? 300_000))))
  const zone7 = (await api('/api/tags')).find((t) => t.name === 'Zone 7/temperature')
  const meter = (await api('/api/tags')).find((t) => t.name === 'Power Meter 2/power')
  const kiln = (await api('/api/sources')).find((s) => s.name === 'Kiln controller')
  const zone4 = (await api('/api/equipment')).find((e) => e.name === 'Zone 4')

  await shot('wrong', '/proof/wrong')
  await shot('proof', '/proof')
  await shot('sources', '/sources')
  await shot('source-check', '/sources', async () => {
    await page.locator('[data-source="Kiln controller"]').dblclick()
    await page.getByRole('button', { name: 'Check the connection' }).click()
    await page.locator('[data-step="read"][data-state="passed"]').waitFor()
  })
  await shot('tags', `/tags?tag=${zone7.id}`)
  await shot('tags-import', '/tags', async () => {
    await page.getByRole('button', { name: 'Import' }).click()
    const rows = [
      'name;source;address;unit;type;low;high;deadband',
      ...[1, 2, 3, 4, 5, 6].map((n) => `Zone ${n}/temperature;Kiln controller;"ns=2;s=kiln.zone${n}.temperature";°C;number;0;1300;0,${n}`),
      ...[4, 5, 6].map((n) => `Power Meter ${n}/power;Dryers and meters;${11 + n} holding@100 float32 CDAB;kW;number;0;400;0,5`),
      'Power Meter 7/power;Field bus;18 holding@100 float32;kW;float;9;1;',
      'Hall 2//power;Dryers and meters;19 holding;kW;number;;;wide',
    ].join('\r\n')
    await page.getByLabel('File').setInputFiles({ name: 'kiln and meters.csv', mimeType: 'text/csv', buffer: Buffer.from(rows, 'latin1') })
    await page.locator('[data-plan="faulty"]').waitFor()
  })
  await shot('browse', `/sources/browse?source=${kiln.id}`, async () => {
    await page.getByRole('button', { name: 'Open Tunnel Kiln 1' }).click()
    await page.getByRole('button', { name: 'Open Zone 1', exact: true }).click()
    await page.getByRole('checkbox', { name: 'high limit' }).check()
    await page.getByLabel('Pattern').fill('**/Zone */roof temperature')
    await page.getByRole('button', { name: 'Find', exact: true }).click()
    await page.getByRole('button', { name: 'Choose all 12' }).click()
    await page.getByLabel('Levels left out').fill('1')
    await page.waitForTimeout(2500)
  })
  await shot('registers', `/sources/registers?tag=${meter.id}`, () => page.locator('[data-decoding="float32 CDAB"]').waitFor())
  await shot('topics', '/sources/topics', async () => {
    await page.getByRole('button', { name: 'Listen', exact: true }).click()
    await page.getByRole('button', { name: /^Open probes/ }).click({ timeout: 20_000 })
    await page.waitForTimeout(4000)
  })
  await shot('equipment', `/equipment?id=${zone4.id}`)
  await shot('classes', '/equipment/classes')
  const stepped = await withSteps()
  await shot('publication', `/publications?id=${stepped}&section=steps`, async () => {
    await page.getByRole('listitem', { name: 'Step 3: Script' }).getByRole('button').first().click()
    await page.getByRole('table', { name: 'Before and after' }).waitFor()
  })
  await page.request.delete(`${web}/api/publications/${stepped}`, { headers: { origin: web } })
  await shot('shapes', '/publications', async () => {
    await page.getByRole('region', { name: 'Shape' }).getByRole('button').first().click()
    await page.getByLabel('Format').selectOption('pubsub-uadp')
    await page.getByRole('table', { name: 'Read again' }).waitFor()
  })
  await shot('coverage', '/equipment/coverage')
  await shot('destinations', '/destinations')
  await shot('credentials', '/destinations/credentials?view=ends')
  await theme('dark')
  await shot('beside-dark', '/proof/beside?span=10', async () => {
    await page
      .getByRole('grid', { name: 'Pairs' })
      .getByRole('row', { name: /Zone 2\/temperature/ })
      .first()
      .click()
    await page.getByRole('img', { name: /^What .* had and what arrived of it/ }).waitFor()
  })
  await theme('light')
  await shot('proof-run', '/proof/runs', async () => {
    await page.getByRole('button', { name: 'New proof run' }).first().click()
    const form = page.getByRole('dialog', { name: 'New proof run' })
    await form.getByLabel('Name', { exact: true }).fill('Acceptance of the kiln line')
    for (const name of ['Kiln zones, each change', 'Kiln zones, to the stream'])
      await form.getByRole('checkbox', { name: new RegExp(`^${name}`) }).check()
    await form.getByLabel('For', { exact: true }).fill('60')
    await form.getByRole('button', { name: 'Add a fault' }).click()
    await form.getByLabel('After').fill('15')
    await form.getByLabel('Lasts').fill('5')
    await form.getByLabel('99 of 100 arrive within, ms').fill('30000')
    await form.getByLabel('Well again within, s').fill('30')
    await form.getByRole('button', { name: 'Begin the run' }).click()
    await page.locator('[data-sentence]', { hasText: /limit|measured|did not/ }).waitFor({ timeout: 240_000 })
    await page.getByRole('img', { name: 'Latency over the run' }).waitFor()
  })
  if (only.length === 0 || only.includes('proof-faults')) {
    const panel = `http://127.0.0.1:${base + 10}`
    const put = (faults) =>
      fetch(`${panel}/api/broker/faults`, { method: 'PUT', headers: { 'content-type': 'application/json' }, body: JSON.stringify(faults) })
    const { broker } = await (await fetch(`${panel}/api/state`)).json()
    // Only what the witness gets: the others at the broker are left alone.
    const client = broker.clients.map((c) => c.clientId).find((c) => c.endsWith('-witness'))
    for (const fault of [{ reorder: 0.4 }, { double: 0.3 }, { alter: 0.3 }, { drop: 0.2 }]) {
      await put({ client, seed: 3, ...fault })
      await page.waitForTimeout(20_000)
      await put({})
      await page.waitForTimeout(12_000)
    }
    await page.waitForTimeout(35_000)
    await shot('proof-faults', '/proof', async () => {
      const brick = page.locator('[data-brick="missing"]').first()
      const box = await brick.boundingBox()
      await page.mouse.click(box.x + box.width / 2, box.y + box.height / 2)
    })
  }
  await browser.close()
} catch (e) {
  // What was begun here is ended here, whatever became of it.
  await stack?.supervisor.stop()
  giveUp(e)
} finally {
  await stack?.supervisor.stop()
}
process.exit(0)
