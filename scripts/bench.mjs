// Measures: 50,000 simulated worlds and what each planted mistake takes (`npm run bench -- worlds`, alone), the whole engine beside a bare loop of the same library, parts alone, memory and CPU, start times, and a million messages under
// random faults. `npm run bench -- thread` (or publications, roads, parts, tags, simulated, import, table, plant, pages, tabs, equipment, shapes, steps, start, faults) takes a part; `chaos` lets everything go wrong for half an hour, and is taken only when asked for. Nothing asserts what it prints.
import { rmSync } from 'node:fs'
import { cpus } from 'node:os'
import { join } from 'node:path'
import { browserArgs } from './lib/browser.mjs'
import { build, stale } from './lib/build.mjs'
import { homeFolder, root } from './lib/home.mjs'
import { chromium, installDebian, installNpm, postgresBin } from './lib/packages.mjs'
import { portBase } from './lib/ports.mjs'
import { privateCluster } from './lib/postgres.mjs'
import { run } from './lib/run.mjs'
import { startDemoStack } from './lib/stack.mjs'
import { giveUp, step } from './lib/steps.mjs'
import { Supervisor } from './lib/supervise.mjs'

const home = join(homeFolder(), 'bench')
const supervisor = new Supervisor(join(home, 'logs'))
try {
  const base = portBase() + 1500
  if (!postgresBin()) await step('PostgreSQL, from Debian', () => installDebian(['postgresql']))
  await step('Packages', async () => ((await installNpm(root)) ? 'npm ci' : 'there'))
  if (stale(root)) await step('Build', () => build(root))
  const { build: bundle } = await import('esbuild')
  const inBrowser = ['table', 'plant', 'pages', 'tabs']
  const ownDatabase = ['thread', 'publications', 'parts', 'tags', 'simulated', 'import', 'equipment', 'shapes', 'steps', 'faults', 'roads']
  const asked = process.argv.slice(2)
  // Half an hour is taken only when asked for.
  if (asked.includes('chaos')) ownDatabase.push('chaos')
  const parts = asked.length > 0 ? asked : [...ownDatabase, ...inBrowser, 'start']
  const out = join(root, 'dist', 'bench')
  await bundle({
    absWorkingDir: root,
    entryPoints: ['worlds', ...inBrowser, ...ownDatabase].map((n) => `bench/${n}.ts`),
    outdir: out,
    outExtension: { '.js': '.mjs' },
    bundle: true,
    platform: 'node',
    target: 'node20',
    format: 'esm',
    packages: 'external',
    logLevel: 'error',
  })
  console.log(`\n${cpus().length} x ${cpus()[0]?.model}, Node ${process.version}, ${new Date().toISOString().slice(0, 10)}\n`)

  if (parts.includes('start')) {
    for (const [label, fresh] of [
      ['first start, from an empty database', true],
      ['second start, data kept', false],
    ]) {
      const began = Date.now()
      const page = firstPage(base, began)
      const stack = await startDemoStack({ base: base, home: join(home, 'start'), fresh, quiet: true })
      const ready = Date.now() - began
      console.log(`  ${`${label}: first page, all ready (built already)`.padEnd(74)} ${(await page) / 1000} s, ${ready / 1000} s`)
      await stack.supervisor.stop()
    }
  }
  for (const part of inBrowser.filter((p) => parts.includes(p))) {
    if (!chromium()) await installDebian(['chromium'])
    const stack = await startDemoStack({ base, home: join(home, part), fresh: true, quiet: true })
    try {
      const env = {
        EMBRIK_PORT_BASE: String(base),
        EMBRIK_DEMO_DIR: join(home, part, 'demo'),
        EMBRIK_CHROMIUM: chromium(),
        EMBRIK_BROWSER_ARGS: JSON.stringify(browserArgs),
        EMBRIK_LOGIN: JSON.stringify(['ines', 'varnmoor-engineer-2']),
      }
      process.stdout.write(await run(process.execPath, [join(out, `${part}.mjs`)], { env: { ...process.env, ...env } }))
    } finally {
      await stack.supervisor.stop()
    }
  }
  if (parts.includes('worlds')) await run(process.execPath, [join(out, 'worlds.mjs')], { show: true })
  const own = ownDatabase.filter((p) => parts.includes(p))
  if (own.length > 0) {
    rmSync(join(home, 'demo'), { recursive: true, force: true })
    const cluster = await privateCluster({ home, port: base + 2, fresh: true })
    supervisor.start('postgres', cluster.process)
    await supervisor.until('postgres', cluster.ready, 20)
    const env = {
      EMBRIK_PORT_BASE: String(base),
      EMBRIK_DEMO_DIR: join(home, 'demo'),
      DATABASE_URL: cluster.url,
      NODE_ENV: 'production',
      EMBRIK_BROKER_LOG: '0',
    }
    supervisor.start('standins', { command: process.execPath, args: [join(root, 'dist', 'bin', 'standins.mjs')], cwd: root, env })
    await supervisor.until(
      'standins',
      () =>
        fetch(`http://127.0.0.1:${base + 10}/api/state`).then(
          (r) => r.ok,
          () => false,
        ),
      60,
    )
    for (const part of own) {
      const printed = await run(process.execPath, ['--max-old-space-size=6000', join(out, `${part}.mjs`)], { env: { ...process.env, ...env } })
      // The rest is the log of the engine.
      console.log(
        printed
          .split('\n')
          .filter((l) => l.startsWith('  '))
          .join('\n'),
      )
    }
  }
} catch (e) {
  await supervisor.stop()
  giveUp(e)
}
await supervisor.stop()
process.exit(0)

/** After how many ms the log-in page answers. */
async function firstPage(base, began) {
  for (;;) {
    const fine = await fetch(`http://127.0.0.1:${base}/login`, { signal: AbortSignal.timeout(1000) }).then(
      (r) => r.ok,
      () => false,
    )
    if (fine) return Date.now() - began
    await new Promise((done) => setTimeout(done, 50))
  }
}
