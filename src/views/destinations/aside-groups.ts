import type { Aside } from '~/contract/aside'

/** What went aside of one publication to one topic, for one kind of reason. */
export interface AsideGroup {
  key: string
  topic: string
  publication: string | null
  /** What was said of the first: those that follow are only "like those before". */
  message: string
  hint: string
  /** The newest first. */
  asides: Aside[]
}

/** Messages that went aside, the newest first, by what they have in common; the group that grew last comes first. */
export function asideGroups(asides: readonly Aside[]): AsideGroup[] {
  const groups = new Map<string, AsideGroup>()
  for (const a of asides) {
    const key = `${a.publicationId} ${a.code} ${a.topic}`
    let group = groups.get(key)
    if (!group) groups.set(key, (group = { key, topic: a.topic, publication: a.publication, message: '', hint: '', asides: [] }))
    group.asides.push(a)
    // The topic stands above.
    group.message = a.message.replace(` to ${a.topic.slice(0, 200)}`, '').replace(`${a.topic.slice(0, 200)}: `, '')
    group.hint = a.hint
  }
  return [...groups.values()]
}
