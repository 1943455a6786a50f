import { fork } from 'node:child_process'
import { join } from 'node:path'
import { expect, it } from 'vitest'
import { stoodStill } from '~/engine/watchdog'
import { bundled } from '../bundle'
import { folder } from './support'

it('a process whose loop stands still is ended, and what it stood still in is known at the next start; one that is busy goes on', async () => {
  const file = join(folder('watchdog'), 'stood-still.json')
  expect(stoodStill(file)).toBeNull()
  const program = await bundled('tests/engine/standing-still.ts', 'standing-still.mjs')
  const child = fork(program, { env: { ...process.env, EMBRIK_STILL: JSON.stringify({ file, everyMs: 100, looks: 20 }) }, silent: true })
  const said: string[] = []
  let words = ''
  child.stderr!.on('data', (d) => (words += String(d)))
  const next = () => new Promise<string>((done) => child.once('message', (m) => done(String(m))))
  const ended = new Promise<NodeJS.Signals | null>((done) => child.once('exit', (_, signal) => done(signal)))
  said.push(await next())
  child.send('busy')
  said.push(await next())
  child.send('still')
  expect(await ended).toBe('SIGKILL')
  expect(said).toEqual(['up', 'back'])
  expect(stoodStill(file)).toMatchObject({ where: 'publication Kiln', seconds: 2 })
  expect(words).toContain('its loop stands still in publication Kiln')
  // Told once.
  expect(stoodStill(file)).toBeNull()
})
