import { mkdirSync, rmSync } from 'node:fs'
import { demandFree, portsOf } from '../../scripts/lib/ports.mjs'
import { startDemoStack } from '../../scripts/lib/stack.mjs'

/** The whole demo, from an empty database, on ports of its own; its supervisor is left where tests find it. */
export default async function setup(): Promise<() => Promise<void>> {
  const base = Number(process.env.EMBRIK_E2E_BASE ?? 5600)
  const home = process.env.EMBRIK_E2E_HOME
  if (!home) throw new Error('EMBRIK_E2E_HOME is not set: run these through npm test')
  // Whoever else answers there would be tested instead.
  await demandFree(portsOf(base))
  // Of a run before nothing stays: what its stand-ins kept, say.
  rmSync(home, { recursive: true, force: true })
  mkdirSync(home, { recursive: true, mode: 0o700 })
  const began = Date.now()
  const stack = await startDemoStack({ base, home, fresh: true, quiet: true })
  process.env.EMBRIK_E2E_BEGAN = String(began)
  process.env.EMBRIK_E2E_DATABASE_URL = stack.env.DATABASE_URL
  return () => stack.supervisor.stop()
}
