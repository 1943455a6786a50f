import { existsSync } from 'node:fs'
import { join } from 'node:path'
import { homeFolder, keptSecret, root } from './home.mjs'
import { privateCluster } from './postgres.mjs'
import { run } from './run.mjs'
import { step } from './steps.mjs'
import { Supervisor } from './supervise.mjs'

const bin = (name) => join(root, 'dist', 'bin', `${name}.mjs`)

async function answers(url, headers = {}) {
  return fetch(url, { headers, signal: AbortSignal.timeout(2000) }).then(
    (r) => r.status < 500,
    () => false,
  )
}

/**
 * Starts database, stand-ins, engine and web on the ports of `base`, seeded, each under supervision.
 * Needs the build. Returns the supervisor and what a caller wants to know.
 */
export async function startDemoStack({
  base,
  home = homeFolder(),
  fresh = false,
  quiet = false,
  web = true,
  env: more = {},
  onSupervisor = () => undefined,
}) {
  const show = quiet ? async (_label, work) => void (await work()) : step
  const supervisor = new Supervisor(join(home, 'logs'), quiet ? () => undefined : undefined)
  onSupervisor(supervisor)
  try {
    const demo = join(home, 'demo')
    const common = { NODE_ENV: 'production', EMBRIK_PORT_BASE: String(base), EMBRIK_DEMO_DIR: demo }
    const node = (name, env) => ({ command: process.execPath, args: ['--enable-source-maps', bin(name)], cwd: root, env })
    // What the seed leaves for them is there already: the stand-ins, slowest to start, need not wait for it.
    const early = !fresh && existsSync(join(demo, 'kiln-trusts.der'))
    if (early) supervisor.start('standins', node('standins', { ...common, ...more }))
    let database
    await show('Database', async () => {
      database = await privateCluster({ home, port: base + 2, fresh })
      supervisor.start('postgres', database.process)
      await supervisor.until('postgres', database.ready, 20)
      return database.data
    })
    const secret = keptSecret(join(home, 'engine.secret'), 24)
    keptSecret(join(home, 'master.key'), 32)
    const env = {
      ...common,
      DATABASE_URL: database.url,
      EMBRIK_ENGINE_SECRET: secret,
      EMBRIK_MASTER_KEY_FILE: join(home, 'master.key'),
      EMBRIK_WORK_DIR: join(home, 'engine'),
      EMBRIK_FILES_DIR: join(demo, 'files'),
      EMBRIK_WEB_DIST: join(root, 'dist', 'web'),
      EMBRIK_HOME: home,
      ...more,
    }
    await show('Tables and demo data', () => run(process.execPath, [bin('seed')], { env: { ...process.env, ...env } }))
    if (web) supervisor.start('web', node('web', env))
    supervisor.start('engine', node('engine', env))
    if (!early) supervisor.start('standins', node('standins', env))
    const beside = (label, name, url, headers) => show(label, () => supervisor.until(name, () => answers(url, headers), 90), true)
    await Promise.all([
      web ? beside('Web', 'web', `http://127.0.0.1:${base}/login`) : undefined,
      beside('Engine', 'engine', `http://127.0.0.1:${base + 1}/health`, { 'x-embrik-secret': secret }),
      beside('Stand-ins: kiln and site broker', 'standins', `http://127.0.0.1:${base + 10}/api/state`),
    ])
    return { supervisor, env, demo, database }
  } catch (e) {
    await supervisor.stop()
    throw e
  }
}

/** Stops everything on Ctrl-C or a polite kill, once. */
export function stopOnSignals(supervisor) {
  let stopping = false
  const stop = () => {
    if (stopping) return
    stopping = true
    process.stdout.write('\nStopping ...\n')
    void supervisor.stop().then(() => {
      console.log('All stopped; the data is kept.')
      process.exit(0)
    })
  }
  for (const s of ['SIGINT', 'SIGTERM', 'SIGHUP']) process.on(s, stop)
}
