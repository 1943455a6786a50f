import type { Member } from '~/contract/equipment'
import { byName } from './hierarchy'

const plain = (s: string) =>
  s
    .replace(/([a-z])([A-Z])/g, '$1 $2')
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, ' ')
    .trim()

export interface Candidate {
  id: string
  name: string
}

/**
 * For each member, by its id, the tag whose name says the same: the tag's last part equals the member's label or key, and one of
 * its other parts equals the equipment's name. `Zone 4/gas flow` fits member gasFlow of equipment Zone 4.
 * Members without exactly one such tag are left out, so that nothing is bound by a guess.
 */
export function matchMembers(
  equipment: string,
  members: readonly Pick<Member, 'id' | 'key' | 'label'>[],
  tags: readonly Candidate[],
): Map<string, string> {
  const wanted = plain(equipment)
  const hits = new Map<string, Candidate[]>()
  for (const tag of tags) {
    const parts = tag.name.split(/[/.]/).map(plain)
    const last = parts.pop() ?? ''
    if (!parts.includes(wanted)) continue
    for (const m of members) if (last === plain(m.label) || last === plain(m.key)) hits.set(m.id, [...(hits.get(m.id) ?? []), tag])
  }
  const found = new Map<string, string>()
  for (const [id, candidates] of hits) if (candidates.length === 1) found.set(id, candidates[0]!.id)
  return found
}

/** Tags that might fit, best first: for the list under a member's field. */
export function rankTags<T extends Candidate>(query: string, tags: readonly T[], limit = 50): T[] {
  const words = plain(query).split(' ').filter(Boolean)
  if (words.length === 0) return tags.slice(0, limit)
  const scored: { tag: T; score: number }[] = []
  for (const tag of tags) {
    const name = plain(tag.name)
    if (!words.every((w) => name.includes(w))) continue
    const parts = name.split(' ')
    scored.push({ tag, score: words.filter((w) => parts.includes(w)).length * 10 - name.length / 100 })
  }
  return scored
    .sort((a, b) => b.score - a.score || byName(a.tag.name, b.tag.name))
    .slice(0, limit)
    .map((s) => s.tag)
}
