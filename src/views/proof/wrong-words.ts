import type { WentWrong, Wrong } from '~/contract/wrong'
import { findHopOf } from './way/words'

/** Where something is looked into and mended, and what the link to it says. */
export interface Way {
  href: string
  label: string
}

const query = (path: string, params: Record<string, string | null>): string => {
  const all = Object.entries(params).filter((p): p is [string, string] => p[1] !== null)
  return all.length > 0 ? `${path}?${new URLSearchParams(all)}` : path
}

/** The way from something that is wrong to its place. */
export function wayTo(w: Pick<Wrong, 'where' | 'subjectId' | 'subject' | 'tags'> | Pick<WentWrong, 'where' | 'subjectId' | 'subject'>): Way | null {
  const id = w.subjectId
  if ('tags' in w && w.tags) {
    const { sourceId, folder, kind } = w.tags
    const label = id ? 'Look at the tag' : 'Look at these tags'
    return { href: query('/tags', id ? { tag: id } : { source: sourceId, folder, kind }), label }
  }
  switch (w.where) {
    case 'source':
      return { href: query('/sources', { source: id }), label: 'Look at the source' }
    case 'tag': {
      // Of many in several folders no words find all.
      const words = 'subject' in w && !/^\d+ of \d+ tags: /.test(w.subject) ? w.subject : null
      return { href: query('/tags', id ? { tag: id } : { q: words }), label: id ? 'Look at the tag' : 'Look at the tags' }
    }
    case 'equipment':
      return { href: query('/equipment', { id }), label: 'Look at the equipment' }
    case 'publication':
      return { href: query('/publications', { id }), label: 'Look at the publication' }
    case 'destination':
    case 'witness':
    case 'outbox':
      return { href: query('/destinations', { id }), label: 'Look at the destination' }
    case 'credential':
      return { href: query('/destinations/credentials', { id }), label: 'Look at the credential' }
    case 'ledger':
      return { href: '/proof', label: 'Look at the wall' }
    default:
      return null
  }
}

/** Where the hop of it is found; null: it is its own cause, or nothing of which there is a way. */
export function hopTo(w: Pick<Wrong, 'where' | 'subjectId'>): string | null {
  if (w.subjectId === null) return null
  switch (w.where) {
    case 'tag':
      return findHopOf('tag', w.subjectId)
    case 'publication':
      return findHopOf('publication', w.subjectId)
    case 'destination':
    case 'witness':
    case 'outbox':
      return findHopOf('destination', w.subjectId)
    default:
      return null
  }
}

/** Of the last hour, what is not wrong now: the same subject at the same place is told once. */
export function over(hour: readonly WentWrong[], now: readonly Wrong[]): WentWrong[] {
  const place = (w: Wrong) => (w.where === 'witness' || w.where === 'outbox' ? 'destination' : w.where)
  // Events about tags name them, since they may be about many.
  const still = new Set(now.flatMap((w) => [`${place(w)} ${w.subjectId}`, `${place(w)} ${w.subject}`]))
  return hour.filter((h) => !still.has(`${h.where} ${h.subjectId ?? h.subject}`))
}
