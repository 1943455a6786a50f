// Starts Embrik with the made-up works on this machine, installing what is missing. Plain Node: it runs before anything is installed.
import { readFileSync, rmSync } from 'node:fs'
import { join, relative } from 'node:path'
import { build, stale } from './lib/build.mjs'
import { homeFolder, root } from './lib/home.mjs'
import { installDebian, installNpm, postgresBin } from './lib/packages.mjs'
import { demandFree, portBase, portsOf } from './lib/ports.mjs'
import { startDemoStack, stopOnSignals } from './lib/stack.mjs'
import { giveUp, step } from './lib/steps.mjs'

const began = Date.now()
const fresh = process.argv.includes('--fresh')

try {
  const base = portBase()
  const home = homeFolder()
  await demandFree(portsOf(base))
  console.log(`\nEmbrik, demo${fresh ? ', from an empty database' : ''}\n`)
  if (!postgresBin()) await step('PostgreSQL, from Debian', () => installDebian(['postgresql']))
  await step('Packages', async () => ((await installNpm(root)) ? 'npm ci' : 'there'))
  await step('Build', async () => {
    if (!stale(root)) return 'up to date'
    await build(root)
  })
  if (fresh) rmSync(join(home, 'demo'), { recursive: true, force: true })
  const { demo } = await startDemoStack({ base, home, fresh, onSupervisor: stopOnSignals })
  const logins = JSON.parse(readFileSync(join(demo, 'logins.json'), 'utf8'))
  console.log(`\nReady in ${((Date.now() - began) / 1000).toFixed(1)} s:  http://127.0.0.1:${base}\n`)
  for (const p of logins.people) console.log(`  ${p.role.padEnd(14)} ${p.login.padEnd(8)} ${p.password}`)
  console.log(`\n  stand-in panel   http://127.0.0.1:${base + 10}`)
  console.log(`  for scripts      ${relative(process.cwd(), demo) || '.'}/  (api-key, ca.pem, witness.cert.pem, witness.key.pem, logins.json)`)
  console.log(`  logs             ${relative(process.cwd(), join(home, 'logs')) || '.'}/`)
  console.log('\nCtrl-C stops everything.')
} catch (e) {
  giveUp(e)
}
