import { randomBytes } from 'node:crypto'
import { chmodSync, existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { dirname, join, resolve } from 'node:path'
import { fileURLToPath } from 'node:url'

/** The repository. */
export const root = resolve(dirname(fileURLToPath(import.meta.url)), '..', '..')

/** Where data, keys and logs of this checkout live; EMBRIK_HOME moves it. */
export function homeFolder() {
  const home = resolve(process.env.EMBRIK_HOME ?? join(root, '.embrik'))
  mkdirSync(home, { recursive: true })
  // Nobody else lists what is in it; the database's own user only passes through.
  chmodSync(home, 0o711)
  return home
}

/** A secret that is made once and kept in a file only its owner reads. */
export function keptSecret(file, octets) {
  if (!existsSync(file)) {
    mkdirSync(dirname(file), { recursive: true })
    writeFileSync(file, randomBytes(octets).toString('hex'), { mode: 0o600 })
  }
  return readFileSync(file, 'utf8').trim()
}
