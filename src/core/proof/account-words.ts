import type { Fate } from '~/contract/wrong'

const grouped = new Intl.NumberFormat('en')
const count = (n: number, what = 'message') => `${grouped.format(n)} ${what}${n === 1 ? '' : 's'}`

const losses = [
  ['missing', (n: number, d: string) => `${count(n)} that ${d} acknowledged and nobody saw arrive`],
  ['altered', (n: number, d: string) => `${count(n)} that arrived at ${d} with another content`],
  ['rejected', (n: number, d: string) => `${count(n)} that ${d} refused`],
  ['dropped', (n: number, d: string) => `${count(n)} for ${d} that the full outbox gave up`],
] as const

const and = (parts: readonly string[]) => (parts.length < 2 ? parts.join('') : `${parts.slice(0, -1).join(', ')} and ${parts.at(-1)}`)

/** What a boss asks: did everything arrive? In one sentence, with what did not, and of what nobody can say. */
export function accountSentence(fates: readonly Fate[], span: string): string {
  const sum = (k: 'produced' | 'arrived' | 'unknown') => fates.reduce((n, f) => n + f[k], 0)
  const [produced, unknown] = [sum('produced'), sum('unknown')]
  if (produced === 0) return `Nothing was sent ${span}.`
  const lost = losses.flatMap(([key, words]) => fates.flatMap((f) => (f[key] > 0 ? [words(f[key], f.destination)] : [])))
  const known = produced - unknown
  const open = fates.reduce((n, f) => n + f.produced - f.arrived - f.altered - f.missing - f.rejected - f.dropped - f.unknown, 0)
  const unseen = unknown > 0 ? ` Of ${count(unknown)} nobody can say: the witness was away.` : ''
  if (known === 0) return `Of the ${count(produced)} sent ${span} nobody can say whether they arrived: no witness saw them.`
  if (sum('arrived') === 0 && lost.length === 0) return `Of the ${count(known)} sent ${span} none has arrived yet.${unseen}`
  if (open > 0) lost.push(`${count(open)} still on the way`)
  const of = `${lost.length === 0 ? 'Everything' : 'All'} that was sent ${span}${unknown > 0 ? ' and watched' : ''} arrived`
  return `${of}${lost.length > 0 ? `, but for ${and(lost)}` : ''}.${unseen}`
}
