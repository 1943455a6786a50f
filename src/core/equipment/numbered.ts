const MOST = 10_000

/**
 * Names from a pattern with ranges: `Dryer Chamber {1..6}`, `Zone {01..12}`, `Cell {A..C}{1..4}` (every letter with every
 * number). Not more than 10,000.
 */
export function numberedNames(pattern: string): { names: string[] } | { problem: string } {
  const text = pattern.trim()
  if (text === '') return { problem: 'Give it a name, such as Dryer Chamber {1..6}' }
  const parts = text.split(/(\{[^{}]*\})/)
  let names = ['']
  for (const part of parts) {
    if (!part.startsWith('{')) {
      if (/[{}]/.test(part)) return { problem: 'A range is written {1..6} or {A..C}' }
      names = names.map((n) => n + part)
      continue
    }
    const range = rangeOf(part.slice(1, -1))
    if (typeof range === 'string') return { problem: range }
    if (names.length * range.length > MOST) return { problem: `That would be more than ${MOST.toLocaleString('en')}` }
    names = names.flatMap((n) => range.map((r) => n + r))
  }
  return { names }
}

function rangeOf(text: string): string[] | string {
  const numbers = /^\s*(\d{1,9})\s*\.\.\s*(\d{1,9})\s*$/.exec(text)
  if (numbers) {
    const [from, to] = [Number(numbers[1]), Number(numbers[2])]
    if (to < from) return `${text} goes backwards`
    if (to - from >= MOST) return `That would be more than ${MOST.toLocaleString('en')}`
    const width = numbers[1]!.startsWith('0') ? numbers[1]!.length : 0
    return Array.from({ length: to - from + 1 }, (_, i) => String(from + i).padStart(width, '0'))
  }
  const letters = /^\s*([A-Za-z])\s*\.\.\s*([A-Za-z])\s*$/.exec(text)
  if (letters) {
    const [from, to] = [letters[1]!.charCodeAt(0), letters[2]!.charCodeAt(0)]
    if (to < from || to - from > 25) return `${text} goes backwards, or from capitals to small letters`
    return Array.from({ length: to - from + 1 }, (_, i) => String.fromCharCode(from + i))
  }
  return `{${text}} is no range: {1..6}, {01..12} or {A..C}`
}
