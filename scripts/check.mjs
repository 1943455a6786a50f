// Type check, lint, import rules and licences; nothing is run.
import { join } from 'node:path'
import { root } from './lib/home.mjs'
import { licenceList } from './lib/licences.mjs'
import { run } from './lib/run.mjs'
import { giveUp, step } from './lib/steps.mjs'

const bin = (name) => join(root, 'node_modules', '.bin', name)
const env = { ...process.env, ASTRO_TELEMETRY_DISABLED: '1' }

try {
  await step('Types', () => run(bin('astro'), ['check', '--minimumFailingSeverity', 'error'], { cwd: root, env }))
  await step('Lint', () => run(bin('biome'), ['check', '--error-on-warnings', '.'], { cwd: root }))
  await step('Floors', () => run(bin('depcruise'), ['src', '--config', '.dependency-cruiser.cjs'], { cwd: root }))
  const { lines, wrong, count } = licenceList(root)
  await step(`Licences of ${count} packages`, async () => {
    if (wrong.length > 0) throw new Error(`Packages that cannot be shipped:\n${wrong.join('\n')}`)
  })
  for (const line of lines) console.log(line)
} catch (e) {
  giveUp(e)
}
