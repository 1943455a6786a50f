import type { Ending } from '~/contract/ending'

/** What people call each thing that ends. */
export const partWords: Readonly<Record<Ending['what'], string>> = {
  certificate: 'certificate',
  chain: 'chain link',
  authority: 'authority',
  list: 'revocation list',
  token: 'token',
  application: 'own certificate',
  server: 'trusted server',
  key: 'API key',
}

const few = (names: readonly string[]): string =>
  names.length > 3 ? `${names.slice(0, 2).join(', ')} and ${names.length - 2} more` : names.join(', ')

const count = (n: number, one: string) => `${n} ${n === 1 ? one : `${one}s`}`

/** How much stops then: `3 publications, 12 tags`; `nothing`. */
export function stopCounts({ what, stops }: Pick<Ending, 'what' | 'stops'>): string {
  if (what === 'key') return 'its calls'
  const { publications, tags } = stops
  const parts = [...(publications.length > 0 ? [count(publications.length, 'publication')] : []), ...(tags > 0 ? [count(tags, 'tag')] : [])]
  return parts.join(', ') || 'nothing'
}

/** What stops when something ends, and what to do about it, as one sentence. */
export function stopWords({ what, uses, stops }: Pick<Ending, 'what' | 'uses' | 'stops'>): string {
  if (what === 'key') return 'Whoever calls with it is refused then: make a new one in time'
  if (what === 'server') return 'Its server shows another one from then on: check the source then, and trust it once it was compared'
  const { publications, tags } = stops
  const parts = [
    ...(publications.length > 0 ? [`${few(publications)} ${publications.length === 1 ? 'waits' : 'wait'} in the outbox from then on`] : []),
    ...(tags > 0 ? [`${tags} ${tags === 1 ? 'tag is' : 'tags are'} not read any more`] : []),
  ]
  const then =
    uses.length === 0
      ? 'Nothing here uses it'
      : parts.length > 0
        ? parts.join(', ')
        : `Used by ${few(uses.map((use) => use.name))}, where nothing is live`
  return `${then}: ${uses.length === 0 ? 'remove it, or take in its successor' : 'ask for its successor, and replace it in place'}`
}
