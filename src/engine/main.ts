import { mkdir } from 'node:fs/promises'
import { join } from 'node:path'
import { databaseUrl, openDatabase } from '~/store/database'
import { openVault } from '~/store/vault'
import { ControlServer } from './control/server'
import { Engine } from './engine'
import { failureOf } from './failure'
import { log, wordsOf } from './log'
import { startWatchdog, stoodStill } from './watchdog'

const base = Number(process.env.EMBRIK_PORT_BASE ?? 4600)
const port = Number(process.env.EMBRIK_ENGINE_PORT ?? base + 1)

/** So long may the engine's loop stand still before it is ended and started anew, s. */
const WATCHDOG_S = 30

async function main(): Promise<void> {
  const secret = process.env.EMBRIK_ENGINE_SECRET
  if (!secret || secret.length < 16) throw new Error('EMBRIK_ENGINE_SECRET must be set to at least 16 characters, the same for web and engine')
  const workFolder = process.env.EMBRIK_WORK_DIR ?? '.embrik/engine'
  await mkdir(workFolder, { recursive: true, mode: 0o700 })
  const url = databaseUrl()
  const db = openDatabase(url, 8, (e) => log('warn', 'database', wordsOf(e)))
  const programs = { previewProgram: new URL('./previews.mjs', import.meta.url), scriptProgram: new URL('./scripts.mjs', import.meta.url) }
  const limit = (name: string, usual: number) => Math.max(0, Number(process.env[name] ?? usual) || 0)
  const recording = { bytes: limit('EMBRIK_RECORDING_MB', 200) * 1e6, ageMs: limit('EMBRIK_RECORDING_HOURS', 24) * 3_600_000 }
  const engine = new Engine({ db, url, vault: openVault(), workFolder, recording, ...programs })
  const file = join(workFolder, 'stood-still.json')
  const before = stoodStill(file)
  const seconds = Number(process.env.EMBRIK_WATCHDOG_S ?? WATCHDOG_S)
  if (seconds > 0) startWatchdog({ file, everyMs: 1000, looks: Math.max(5, Math.round(seconds)) })
  await engine.start()
  if (before) engine.tellStoodStill(before.where, before.seconds)
  const control = await ControlServer.start(engine, { host: process.env.EMBRIK_ENGINE_HOST ?? '127.0.0.1', port, secret })
  log('info', 'engine', `up, control on port ${port}`)
  let stopping = false
  const stop = () => {
    if (stopping) return
    stopping = true
    setTimeout(() => process.exit(0), 6000).unref()
    void control
      .stop()
      .then(() => engine.stop())
      .then(() => db.destroy())
      .catch((e: unknown) => log('error', 'engine', wordsOf(e)))
      .finally(() => process.exit(0))
  }
  process.on('SIGTERM', stop)
  process.on('SIGINT', stop)
}

main().catch((e: unknown) => {
  const taken = (e as { code?: string }).code === 'EADDRINUSE'
  if (taken) console.error(`Port ${port} (engine control) is taken: free it or set EMBRIK_PORT_BASE to move all ports`)
  else {
    const f = failureOf(e)
    console.error(`${f.message}${f.hint ? ` - ${f.hint}` : ''}`)
  }
  process.exit(taken ? 98 : 1)
})
