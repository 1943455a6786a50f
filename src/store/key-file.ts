import { randomBytes } from 'node:crypto'
import { closeSync, fsyncSync, openSync, readFileSync, renameSync, writeSync } from 'node:fs'
import { dirname } from 'node:path'
import { keysIn } from './vault'

/** Puts keys in a file, whole or not at all: at every moment it holds the old ones or the new ones. Only its owner reads it. */
function writeKeys(file: string, keys: readonly Buffer[]): void {
  const beside = `${file}.new`
  const handle = openSync(beside, 'w', 0o600)
  try {
    writeSync(handle, `${keys.map((key) => key.toString('hex')).join('\n')}\n`)
    fsyncSync(handle)
  } finally {
    closeSync(handle)
  }
  renameSync(beside, file)
  const folder = openSync(dirname(file), 'r')
  try {
    fsyncSync(folder)
  } finally {
    closeSync(folder)
  }
}

/** A new master key becomes the present one; those before stay below it. */
export function addMasterKey(file: string): void {
  writeKeys(file, [randomBytes(32), ...keysIn(readFileSync(file, 'utf8'))])
}

/** How many keys a file holds. */
export const keyCount = (file: string): number => keysIn(readFileSync(file, 'utf8')).length

/** Only the present key stays; gives how to bring the others back. */
export function dropEarlierKeys(file: string): () => void {
  const keys = keysIn(readFileSync(file, 'utf8'))
  writeKeys(file, keys.slice(0, 1))
  return () => writeKeys(file, keys)
}
