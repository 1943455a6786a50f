// Everything that can be tested, from a fresh clone: installs what is missing, then types, lint, unit, simulated worlds, engine and end-to-end tests.
// On ports and a database of its own. `npm test -- unit` (or worlds, engine, e2e, check) runs a part.
import { mkdirSync, readFileSync, rmSync } from 'node:fs'
import { join } from 'node:path'
import { stripVTControlCharacters } from 'node:util'
import { build, stale } from './lib/build.mjs'
import { homeFolder, root } from './lib/home.mjs'
import { licenceList } from './lib/licences.mjs'
import { chromium, installDebian, installNpm, postgresBin } from './lib/packages.mjs'
import { portBase } from './lib/ports.mjs'
import { privateCluster } from './lib/postgres.mjs'
import { run, works } from './lib/run.mjs'
import { giveUp, step } from './lib/steps.mjs'
import { Supervisor } from './lib/supervise.mjs'

const only = process.argv.slice(2)
const wanted = (part) => only.length === 0 || only.includes(part)
const bin = (name) => join(root, 'node_modules', '.bin', name)
let passed = 0
let failed = 0
/** Steps that are no tests and went wrong. */
const wrong = []
/** Names of all tests that failed: they stand once more at the end, where a cut-off output still shows them. */
const names = []

/** Runs a part; what it prints is shown when it fails. */
async function part(label, work) {
  try {
    await step(label, work)
  } catch (e) {
    console.log(e instanceof Error ? e.message : String(e))
    return false
  }
  return true
}

const firstLine = (text) =>
  stripVTControlCharacters(text ?? '')
    .split('\n')[0]
    .slice(0, 300)
/** Names of tests that failed, each with what it said first, as the reports of the two tools hold them. */
const vitestFailed = (r) =>
  r.testResults.flatMap((f) =>
    f.assertionResults
      .filter((a) => a.status === 'failed')
      .map((a) => `${f.name.replace(`${root}/`, '')} > ${a.fullName}: ${firstLine(a.failureMessages?.[0])}`),
  )
const playwrightFailed = (r) => {
  const of = (suite) => [
    ...(suite.suites ?? []).flatMap(of),
    ...(suite.specs ?? []).filter((s) => !s.ok).map((s) => `${s.file} > ${s.title}: ${whole(s.tests[0]?.results[0])}`),
  ]
  return of(r)
}
/** What a test of the interface says when it fails, and what stood on the page. */
const whole = (result) =>
  [
    stripVTControlCharacters(result?.error?.message ?? '').slice(0, 3000),
    ...(result?.attachments ?? []).filter((a) => a.name === 'error-context').map((a) => readFileSync(a.path, 'utf8').slice(0, 12_000)),
  ].join('\n')

/** Runs a test tool that writes a report; counts what the report says, and names what failed. */
async function tests(label, command, args, env, report, count) {
  rmSync(report, { force: true })
  const fine = await part(label, async () => {
    await run(command, args, { cwd: root, lines: 300, env: { ...process.env, ...env, ASTRO_TELEMETRY_DISABLED: '1' } })
    return `${count(JSON.parse(readFileSync(report, 'utf8'))).passed} tests`
  })
  let sum = { passed: 0, failed: 1 }
  try {
    const told = JSON.parse(readFileSync(report, 'utf8'))
    sum = count(told)
    for (const name of told.suites ? playwrightFailed(told) : vitestFailed(told)) {
      console.log(`  failed: ${name}`)
      names.push(name.split('\n')[0].slice(0, 300))
    }
  } catch {
    console.log(`${label} left no report`)
  }
  passed += sum.passed
  failed += sum.failed
  // A tool that failed without a failed test (a file that can't be read, say) is a failure too.
  if (!fine && sum.failed === 0) wrong.push(label)
}
const vitestCount = (r) => ({ passed: r.numPassedTests, failed: r.numFailedTests })
const playwrightCount = (r) => ({
  passed: r.stats.expected,
  failed: r.stats.unexpected + r.stats.flaky + r.stats.skipped + (r.stats.expected === 0 ? 1 : 0),
})

const began = Date.now()
try {
  const base = portBase() + 1000
  const home = join(homeFolder(), 'test')
  const reports = join(home, 'reports')
  mkdirSync(reports, { recursive: true })
  if (!postgresBin()) await step('PostgreSQL, from Debian', () => installDebian(['postgresql']))
  if (!chromium()) await step('Chromium, from Debian', () => installDebian(['chromium']))
  if (!(await works('openssl', ['version']))) await step('OpenSSL, from Debian', () => installDebian(['openssl']))
  await step('Packages', async () => ((await installNpm(root)) ? 'npm ci' : 'there'))

  // What only computes takes what the others leave of the machine.
  const meekly = (command, args) => ['nice', ['-n', '5', command, ...args]]
  const check = async () => {
    for (const [label, command, args] of [
      ['Types', 'astro', ['check', '--minimumFailingSeverity', 'error']],
      ['Lint', 'biome', ['check', '--error-on-warnings', '.']],
      ['Floors', 'depcruise', ['src', '--config', '.dependency-cruiser.cjs']],
    ]) {
      const fine = await part(label, () =>
        run(...meekly(bin(command), args), { cwd: root, env: { ...process.env, ASTRO_TELEMETRY_DISABLED: '1' } }).then(() => ''),
      )
      if (!fine) wrong.push(label)
    }
    const licences = await part('Licences', async () => {
      const list = licenceList(root)
      if (list.wrong.length > 0) throw new Error(`Packages that cannot be shipped:\n${list.wrong.join('\n')}`)
      return `${list.count} packages`
    })
    if (!licences) wrong.push('Licences')
  }
  const vitest = (project) => [
    'run',
    '--project',
    project,
    '--reporter=dot',
    '--reporter=json',
    `--outputFile.json=${join(reports, `${project}.json`)}`,
  ]
  // The browser's tests and those of the engine take longest, and mostly wait: they begin at once, beside each other.
  const endToEnd = async () => {
    await step(
      'Build',
      async () => {
        if (!stale(root)) return 'up to date'
        await build(root)
      },
      true,
    )
    const env = { EMBRIK_E2E_BASE: String(base), EMBRIK_E2E_HOME: join(home, 'e2e'), PLAYWRIGHT_JSON_OUTPUT_NAME: join(reports, 'e2e.json') }
    await tests('End-to-end tests', bin('playwright'), ['test', '--reporter=line,json'], env, join(reports, 'e2e.json'), playwrightCount)
  }
  const ends = wanted('e2e') ? endToEnd() : null
  // Its failure is told below, not here.
  ends?.catch(() => undefined)
  const computing = (async () => {
    if (wanted('check')) await check()
    for (const [part, label] of [
      ['unit', 'Unit tests'],
      ['worlds', 'Simulated worlds'],
    ])
      if (wanted(part)) await tests(label, ...meekly(bin('vitest'), vitest(part)), {}, join(reports, `${part}.json`), vitestCount)
  })()
  computing.catch(() => undefined)
  if (wanted('engine')) {
    const supervisor = new Supervisor(join(home, 'logs'), () => undefined)
    try {
      const cluster = await privateCluster({ home, port: base + 40, fresh: true, passing: true })
      supervisor.start('postgres', cluster.process)
      await supervisor.until('postgres', cluster.ready, 20)
      await tests(
        'Engine tests',
        bin('vitest'),
        vitest('engine'),
        { EMBRIK_TEST_DATABASE_URL: cluster.url },
        join(reports, 'engine.json'),
        vitestCount,
      )
    } finally {
      await supervisor.stop()
    }
  }
  await computing
  await ends
  console.log(`\nin ${Math.round((Date.now() - began) / 1000)} s`)
  for (const name of names) console.log(`failed: ${name}`)
  if (wrong.length > 0) console.log(`wrong: ${wrong.join(', ')}`)
  // Counts are of tests; what is no test is named.
  console.log(`${passed} passed, ${failed} failed`)
  process.exit(failed > 0 || wrong.length > 0 ? 1 : 0)
} catch (e) {
  giveUp(e)
}
