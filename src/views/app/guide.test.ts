import { existsSync, readFileSync } from 'node:fs'
import { describe, expect, it } from 'vitest'
import { guideFor } from './guide'
import { places } from './places'

/** As headings become anchors: small letters, hyphens for spaces, nothing else. */
const anchor = (heading: string) =>
  heading
    .toLowerCase()
    .replace(/[^\p{L}\p{N}\s-]/gu, '')
    .trim()
    .replaceAll(' ', '-')

describe('every page has its page of the guide', () => {
  it.each(places.map((p) => p.path))('%s', (path) => {
    const [file, at] = guideFor(path).replace('/guide/', '').split('#')
    expect(existsSync(`docs/${file}`)).toBe(true)
    const anchors = readFileSync(`docs/${file}`, 'utf8')
      .split('\n')
      .filter((l) => l.startsWith('#'))
      .map((l) => anchor(l.replace(/^#+ /, '')))
    if (at !== undefined) expect(anchors).toContain(at)
  })
})
