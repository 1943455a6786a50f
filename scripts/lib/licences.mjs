import { existsSync, readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'

/** Licences under which packages may be shipped or built with: all let the program be passed on under terms of its own. */
const allowed = [
  'MIT',
  'MIT-0',
  'MIT/X11',
  'Zlib',
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

/** Licences told by their first words, or by a sentence that names them. */
const bsd2 = /2-clause bsd licen[sc]e/i
const mit = /permission is hereby granted, free of charge|under the terms of the \[?MIT licen[sc]e|licen[sc]ed? (?:under|:)? ?(?:the )?MIT/i

/** What a package says of itself: in its manifest; else in the files that come with it. Null: nothing. */
function licenceOf(at) {
  const manifest = JSON.parse(readFileSync(join(at, 'package.json'), 'utf8'))
  const given = manifest.license ?? manifest.licenses
  const text = Array.isArray(given) ? given.map((g) => g.type ?? g).join(' OR ') : typeof given === 'object' && given ? given.type : given
  if (typeof text === 'string' && text.trim() !== '' && !/^(SEE LICENSE|UNLICENSED)/i.test(text)) return text.trim()
  const files = readdirSync(at).filter((f) => /^(licen[sc]e|copying|readme)/i.test(f))
  const said = files.map((f) => readFileSync(join(at, f), 'utf8'))
  return said.some((t) => bsd2.test(t)) ? 'BSD-2-Clause' : said.some((t) => mit.test(t)) ? 'MIT' : null
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

/** The list as people read it, and what is wrong with it. */
export function licenceList(root) {
  const all = licences(root)
  const groups = new Map()
  for (const p of all) groups.set(p.licence, [...(groups.get(p.licence) ?? []), p])
  const lines = [...groups]
    .sort((a, b) => b[1].length - a[1].length)
    .map(([licence, list]) => {
      const names = list.length > 6 ? '' : `: ${list.map((p) => `${p.name} ${p.version}`).join(', ')}`
      const shipped = list.filter((p) => !p.dev).length
      return `${String(list.length).padStart(5)} ${licence ?? 'without a licence'} (${shipped} of them to run it)${names}`
    })
  const wrong = all.filter((p) => p.licence === null || !fits(p.licence))
  return { lines, wrong: wrong.map((p) => `${p.name} ${p.version}: ${p.licence ?? 'no licence'}`), count: all.length }
}
