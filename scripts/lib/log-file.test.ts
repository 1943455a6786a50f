import { existsSync, mkdtempSync, readFileSync, rmSync, symlinkSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { expect, it } from 'vitest'
import { LogFile } from './log-file.mjs'

const folder = mkdtempSync(join(tmpdir(), 'embrik-log-'))
const pause = (ms: number) => new Promise((done) => setTimeout(done, ms))

it('a full disk costs lines of the log and nothing else, and it goes on when there is room', async () => {
  const path = join(folder, 'full.log')
  symlinkSync('/dev/full', path)
  const log = new LogFile(path)
  log.write('lost\n')
  await pause(100)
  log.write('left out\n')
  rmSync(path)
  log.failedAt = Number.NEGATIVE_INFINITY
  log.write('there\n')
  log.end()
  await pause(100)
  expect(readFileSync(path, 'utf8')).toBe('(1 pieces of this log could not be written)\nthere\n')
})

it('a log that has grown is put aside, and one older is kept', async () => {
  const path = join(folder, 'long.log')
  const log = new LogFile(path, 100)
  for (let i = 0; i < 12; i++) {
    log.write(`${'x'.repeat(29)}\n`)
    await pause(20)
  }
  log.end()
  await pause(100)
  expect(existsSync(`${path}.1`)).toBe(true)
  expect(readFileSync(path, 'utf8').length).toBeLessThanOrEqual(150)
  expect(readFileSync(`${path}.1`, 'utf8').length).toBeGreaterThan(100)
})
