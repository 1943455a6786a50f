import { existsSync, readFileSync } from 'node:fs'
import { join } from 'node:path'

/** Licences under which packages may be shipped or built with: all let the program be passed on under terms of its own. */
const allowed = [
  'MIT',
  'MIT-0',
  'ISC',
  'BSD-2-Clause',
  'BSD-3-Clause',
  '0BSD',
  'Apache-2.0',
  'BlueOak-1.0.0',
  'CC0-1.0',
  'CC-BY-4.0',
  'OFL-1.1',
  'Unlicense',
  'Python-2.0',
  'MPL-2.0',
  'LGPL-3.0-or-later',
  'EPL-2.0',
]

/** One of an `A OR B` is enough, all of an `A AND B` are needed (SPDX 2.3, annex D). */
export function fits(expression) {
  const text = expression.replace(/[()]/g, ' ').trim()
  return text.split(/\s+OR\s+/i).some((choice) => choice.split(/\s+AND\s+/i).every((one) => allowed.includes(one.trim())))
}

function licenceOf(at) {
  const manifest = JSON.parse(readFileSync(join(at, 'package.json'), 'utf8'))
  const given = manifest.license ?? manifest.licenses
  const text = Array.isArray(given) ? given.map((g) => g.type ?? g).join(' OR ') : typeof given === 'object' && given ? given.type : given
  return typeof text === 'string' && text.trim() !== '' && !/^(SEE LICENSE|UNLICENSED)/i.test(text) ? text.trim() : null
}

/** Every installed package with its licence; null: it has none. `dev`: only tests and the build need it. */
export function licences(root) {
  const { packages } = JSON.parse(readFileSync(join(root, 'package-lock.json'), 'utf8'))
  return Object.entries(packages).flatMap(([path, { version, dev }]) => {
    const at = join(root, path)
    if (path === '' || !existsSync(join(at, 'package.json'))) return []
    return [{ name: path.replace(/^.*node_modules\//, ''), version, dev: dev === true, licence: licenceOf(at) }]
  })
}
