// Measures: the whole engine beside a bare loop of the same library, and parts alone. Run it by hand; nothing asserts what it prints.
import { rmSync } from 'node:fs'
import { join } from 'node:path'
import { build, stale } from './lib/build.mjs'
import { homeFolder, root } from './lib/home.mjs'
import { installDebian, installNpm, postgresBin } from './lib/packages.mjs'
import { portBase } from './lib/ports.mjs'
import { privateCluster } from './lib/postgres.mjs'
import { run } from './lib/run.mjs'
import { giveUp, step } from './lib/steps.mjs'
import { Supervisor } from './lib/supervise.mjs'

const home = join(homeFolder(), 'bench')
const supervisor = new Supervisor(join(home, 'logs'))
try {
  const base = portBase() + 1400
  if (!postgresBin()) await step('PostgreSQL, from Debian', () => installDebian(['postgresql']))
  await step('Packages', async () => ((await installNpm(root)) ? 'npm ci' : 'there'))
  if (stale(root)) await step('Build', () => build(root))
  const { build: bundle } = await import('esbuild')
  const out = join(root, 'dist', 'bench', 'thread.mjs')
  await bundle({
    absWorkingDir: root,
    entryPoints: ['bench/thread.ts'],
    outfile: out,
    bundle: true,
    platform: 'node',
    target: 'node20',
    format: 'esm',
    packages: 'external',
    logLevel: 'error',
  })
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
  await run(process.execPath, [out], { show: true, env: { ...process.env, ...env } })
} catch (e) {
  await supervisor.stop()
  giveUp(e)
}
await supervisor.stop()
process.exit(0)
