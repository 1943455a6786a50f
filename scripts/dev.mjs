// The demo with the web part served by Astro, rebuilt as you type. Engine and stand-ins run from their bundles: start again after changing them.
import { join } from 'node:path'
import { buildNode, stale } from './lib/build.mjs'
import { homeFolder, root } from './lib/home.mjs'
import { installDebian, installNpm, postgresBin } from './lib/packages.mjs'
import { demandFree, portBase, portsOf } from './lib/ports.mjs'
import { startDemoStack, stopOnSignals } from './lib/stack.mjs'
import { giveUp, step } from './lib/steps.mjs'

try {
  const base = portBase()
  await demandFree(portsOf(base))
  if (!postgresBin()) await step('PostgreSQL, from Debian', () => installDebian(['postgresql']))
  await step('Packages', async () => ((await installNpm(root)) ? 'npm ci' : 'there'))
  await step('Bundles', () => (stale(root) ? buildNode(root) : 'up to date'))
  const { supervisor, env } = await startDemoStack({ base, home: homeFolder(), web: false, onSupervisor: stopOnSignals })
  supervisor.start('astro', {
    command: process.execPath,
    args: [join(root, 'node_modules', 'astro', 'astro.js'), 'dev'],
    cwd: root,
    env: { ...env, NODE_ENV: 'development', ASTRO_TELEMETRY_DISABLED: '1' },
    onOutput: (text) => process.stdout.write(text),
  })
} catch (e) {
  giveUp(e)
}
