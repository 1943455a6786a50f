import { Parser } from 'saxen'

/** An element with the texts of those in it, by name: the first of each. */
export type Element = ReadonlyMap<string, string>

/** Elements of a document by their names, whatever lies between; throws where it is no XML. Names have no prefix. */
export function elementsIn(xml: string, wanted: readonly string[]): { name: string; texts: Element }[] {
  const out: { name: string; texts: Map<string, string> }[] = []
  const open: string[] = []
  let wrong: Error | null = null
  const parser = new Parser()
    .on('openTag', (full) => {
      const name = full.slice(full.indexOf(':') + 1)
      open.push(name)
      if (wanted.includes(name)) out.push({ name, texts: new Map() })
    })
    .on('closeTag', () => {
      open.pop()
    })
    .on('text', (value, decode) => {
      const within = out.at(-1)
      const name = open.at(-1)
      if (within && name !== undefined && !within.texts.has(name) && value.trim() !== '') within.texts.set(name, decode(value))
    })
    .on('error', (e) => {
      wrong = e
    })
  parser.parse(xml)
  if (wrong) throw wrong
  return out
}

/** The text of the first element of that name; empty: there is none. */
export function textIn(xml: string, name: string): string {
  let found = ''
  let depth = false
  const parser = new Parser()
    .on('openTag', (full) => {
      depth = found === '' && full.slice(full.indexOf(':') + 1) === name
    })
    .on('closeTag', () => {
      depth = false
    })
    .on('text', (value, decode) => {
      if (depth) found = decode(value)
    })
  try {
    parser.parse(xml)
  } catch {
    return ''
  }
  return found
}
