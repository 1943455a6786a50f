import { createWriteStream, existsSync, openSync, renameSync, rmSync, statSync } from 'node:fs'

/** A log is put aside at this size, octets; one older is kept. */
const MOST = 20_000_000
/** So long after it could not be written it is tried again, ms. */
const AGAIN_MS = 5000

/**
 * A file that grows to a bound and is then put aside (`.1`). A disk that is full, or a folder that is gone, costs lines of the
 * log and nothing else: it goes on by itself when there is room.
 */
export class LogFile {
  constructor(path, most = MOST) {
    this.path = path
    this.most = most
    this.stream = null
    this.size = 0
    this.failedAt = Number.NEGATIVE_INFINITY
    this.left = 0
  }

  open() {
    if (performance.now() - this.failedAt < AGAIN_MS) return null
    try {
      this.size = existsSync(this.path) ? statSync(this.path).size : 0
      // Opened at once: a file that is put aside before its stream has opened it would go on under the old name.
      const stream = createWriteStream(this.path, { fd: openSync(this.path, 'a', 0o600) })
      stream.on('error', () => {
        this.failedAt = performance.now()
        if (this.stream === stream) this.stream = null
      })
      return stream
    } catch {
      this.failedAt = performance.now()
      return null
    }
  }

  rotate() {
    this.stream?.end()
    this.stream = null
    try {
      rmSync(`${this.path}.1`, { force: true })
      renameSync(this.path, `${this.path}.1`)
    } catch {
      // Then it grows on, until it can be put aside.
      this.size = 0
    }
  }

  write(chunk) {
    if (this.size > this.most) this.rotate()
    this.stream ??= this.open()
    if (!this.stream) {
      this.left++
      return
    }
    if (this.left > 0) {
      const note = `(${this.left} pieces of this log could not be written)\n`
      this.left = 0
      this.stream.write(note)
    }
    this.size += chunk.length
    this.stream.write(chunk)
  }

  end() {
    this.stream?.end()
    this.stream = null
  }
}
