import type { Finding, PlanEquipment } from '~/contract/publication'
import type { Tag } from '~/contract/tag'
import { some } from '../../address/some'
import { handlesOf } from '../../equipment/resolve'
import type { PlanBody } from '../compile'
import { allTags } from '../steps/behind'

interface Around {
  tags: Iterable<Pick<Tag, 'handle' | 'name' | 'sourceId'>>
  /** Handles of tags that an equipment or a publication uses. */
  used: ReadonlySet<number>
  /** Name of a source. */
  sourceName(id: string): string
}

const told = (section: Finding['section'], message: string, hint: string, href: string): Finding => ({
  ...{ severity: 'warns', section, message, hint, told: true },
  mend: { label: href === '/equipment' ? 'Open equipment' : 'Show tags that nothing uses', href },
})

/** What is read and goes nowhere: members that the steps leave out, and tags of the same sources that nothing uses. It is told; nobody has to accept it. */
export function unusedFindings(
  source: readonly PlanEquipment[],
  body: Pick<PlanBody, 'equipment' | 'stages' | 'messages'>,
  around: Around,
): Finding[] {
  const sent = new Set(allTags(body))
  const unsent = source.flatMap((one) =>
    one.members.flatMap((m) => {
      const read = [...handlesOf(m.fill)]
      return read.length > 0 && !read.some((h) => sent.has(h)) ? [`${one.name} ${m.label || m.key}`] : []
    }),
  )
  const bySource = new Map<string, string[]>()
  const concerned = new Set<string>()
  for (const { handle, name, sourceId } of around.tags) {
    if (sent.has(handle)) concerned.add(sourceId)
    else if (!around.used.has(handle)) bySource.set(sourceId, [...(bySource.get(sourceId) ?? []), name])
  }
  const idle = [...bySource].filter(([id]) => concerned.has(id))
  return [
    ...(unsent.length > 0
      ? [told('steps', `Read, and not sent: ${some(unsent)}`, 'The steps leave them out and nothing goes by them', '/equipment')]
      : []),
    ...idle.map(([id, names]) =>
      told(
        'what',
        `${names.length} ${names.length === 1 ? 'tag' : 'tags'} of ${around.sourceName(id)} ${names.length === 1 ? 'is' : 'are'} used by nothing: ${some(names)}`,
        'They are read all the same: bind them, or remove them',
        `/tags?kind=unused&source=${id}`,
      ),
    ),
  ]
}
