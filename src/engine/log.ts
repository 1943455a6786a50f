type Level = 'info' | 'warn' | 'error'

// A log that nobody takes (a full disk, a pipe whose reader is gone) must not end the engine.
for (const stream of [process.stdout, process.stderr]) stream.on('error', () => undefined)

let muted = false

/** Where many engines live in one process nobody reads their logs. */
export function muteLog(): void {
  muted = true
}

/** One line a happening, for logs: time, level, where, words. Secrets are never passed in here. */
export function log(level: Level, where: string, message: string): void {
  if (muted) return
  const line = `${new Date().toISOString()} ${level.padEnd(5)} ${where}: ${message.replace(/\s*\n\s*/g, ' ')}`
  try {
    if (level === 'error') console.error(line)
    else console.log(line)
  } catch {
    // As above.
  }
}

/** The words of an error, whatever was thrown. */
export function wordsOf(e: unknown): string {
  return e instanceof Error ? e.message : String(e)
}
