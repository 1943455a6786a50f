import { existsSync, mkdirSync, readFileSync, rmSync, symlinkSync } from 'node:fs'
import { join } from 'node:path'
import { afterEach, describe, expect, it, vi } from 'vitest'
import { LogFile } from '../../scripts/lib/log-file.mjs'
import { folder, until } from './support'

const read = (path: string) => (existsSync(path) ? readFileSync(path, 'utf8') : '')

describe('the log of a process', () => {
  const home = folder('log')
  let n = 0
  const path = () => join(home, `${n++}.log`)
  afterEach(() => void vi.restoreAllMocks())

  it('is put aside at its bound, one older is kept, and a line is in one of the two', async () => {
    const file = path()
    const log = new LogFile(file, 100)
    for (let i = 0; i < 30; i++) log.write(`line ${i} ........\n`)
    log.end()
    await until(() => read(file).includes('line 29'), 'the last line')
    expect(read(file).length).toBeLessThan(200)
    expect(read(`${file}.1`)).toContain('line 23')
    expect(existsSync(`${file}.2`)).toBe(false)
  })

  it('goes on where it was after a start', async () => {
    const file = path()
    for (const line of ['one\n', 'two\n']) {
      const log = new LogFile(file)
      log.write(line)
      log.end()
      await until(() => read(file).endsWith(line), line)
    }
    expect(read(file)).toBe('one\ntwo\n')
  })

  it('on a full disk costs lines and nothing else, and says how many when there is room again', async () => {
    const file = path()
    // Writing there always fails as on a full disk (ENOSPC).
    symlinkSync('/dev/full', file)
    const log = new LogFile(file)
    log.write('lost\n')
    await until(() => log.failedAt > 0, 'the failure to be noticed')
    log.write('lost too\n')
    rmSync(file)
    vi.spyOn(performance, 'now').mockReturnValue(performance.now() + 6000)
    log.write('there again\n')
    log.end()
    await until(() => read(file).includes('there again'), 'the log to go on')
    expect(read(file)).toContain('(1 pieces of this log could not be written)')
  })

  it('whose folder is gone comes back with it', async () => {
    const gone = join(home, 'gone')
    const log = new LogFile(join(gone, 'a.log'))
    log.write('lost\n')
    await until(() => log.failedAt > 0, 'the failure to be noticed')
    mkdirSync(gone)
    vi.spyOn(performance, 'now').mockReturnValue(performance.now() + 6000)
    log.write('back\n')
    log.end()
    await until(() => read(join(gone, 'a.log')).includes('back'), 'the log to go on')
  })
})
