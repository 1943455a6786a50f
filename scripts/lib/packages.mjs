import { existsSync, readdirSync, statSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { run, works } from './run.mjs'

/** The folder of PostgreSQL's server programs, the newest installed; null when there is none. */
export function postgresBin() {
  const root = '/usr/lib/postgresql'
  const versions = existsSync(root) ? readdirSync(root).filter((v) => /^\d+$/.test(v)) : []
  const found = versions.sort((a, b) => b - a).map((v) => join(root, v, 'bin'))
  const elsewhere = (process.env.PATH ?? '').split(':')
  return [...found, ...elsewhere].find((folder) => folder && existsSync(join(folder, 'postgres')) && existsSync(join(folder, 'initdb'))) ?? null
}

export function chromium() {
  return ['/usr/bin/chromium', '/usr/bin/chromium-browser'].find((f) => existsSync(f)) ?? null
}

/** Installs Debian packages as root or through sudo; throws one line that says what is missing when it can't. */
export async function installDebian(names) {
  const root = process.getuid?.() === 0
  const missing = `Install it by hand and start again:  sudo apt-get install ${names.join(' ')}`
  if (!existsSync('/usr/bin/apt-get')) throw new Error(`${names.join(', ')} is not installed, and this is no Debian. ${missing}`)
  if (!root && !(await works('sudo', ['-n', 'true'])))
    throw new Error(`${names.join(', ')} is not installed, and there is no sudo without a password here. ${missing}`)
  const env = { ...process.env, DEBIAN_FRONTEND: 'noninteractive' }
  const as = (args) => (root ? run(args[0], args.slice(1), { env }) : run('sudo', ['-n', 'DEBIAN_FRONTEND=noninteractive', ...args], { env }))
  // Without this the package would make and start a server of its own, on its own port.
  if (root && names.includes('postgresql') && !existsSync('/etc/postgresql-common/createcluster.conf')) {
    await run('mkdir', ['-p', '/etc/postgresql-common'])
    writeFileSync('/etc/postgresql-common/createcluster.conf', 'create_main_cluster = false\n')
  }
  const install = ['apt-get', 'install', '-y', '-q', '--no-install-recommends', '-o', 'Dpkg::Options::=--force-confold', ...names]
  await as(install).catch(async () => {
    await as(['apt-get', 'update', '-q'])
    await as(install)
  })
}

/** Installs the npm packages of the lock file when they aren't there. Returns whether it did. */
export async function installNpm(root) {
  const lock = join(root, 'package-lock.json')
  const stamp = join(root, 'node_modules', '.package-lock.json')
  if (existsSync(stamp) && statSync(stamp).mtimeMs >= statSync(lock).mtimeMs) return false
  await run('npm', ['ci', '--no-audit', '--no-fund'], { cwd: root })
  // A checkout may stamp the lock file later than its packages: what was just installed is fresh.
  const now = new Date()
  const { utimesSync } = await import('node:fs')
  if (existsSync(stamp)) utimesSync(stamp, now, now)
  return true
}
