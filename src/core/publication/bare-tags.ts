import type { Equipment } from '~/contract/equipment'
import type { PlanEquipment, PlanMember, TagPick } from '~/contract/publication'
import type { Tag } from '~/contract/tag'
import { some } from '../address/some'
import { byName } from '../equipment/hierarchy'
import { deadbandWidth } from '../value/deadband'
import type { Placed, Say, World } from './placed'

/** So many tags go out in one publication. */
const TAGS_MOST = 20_000
/** What tags without a folder stand under. */
const NO_FOLDER = 'Tags'

/** Whether a tag is one of those that are picked. */
export const isPicked = ({ folder, text }: TagPick, { name }: Pick<Tag, 'name'>): boolean =>
  (folder === '' || name.startsWith(`${folder}/`)) && (text === '' || name.toLowerCase().includes(text.toLowerCase()))

/** A name as a key in a payload: letters, digits and `_`, no digit first. */
const keyOf = (name: string): string => {
  const key = name
    .normalize('NFKD')
    .replace(/\p{M}/gu, '')
    .replace(/[^A-Za-z0-9_]+/g, '_')
    .replace(/^_+(?=.)|_+$/g, '')
  return /^[A-Za-z_]/.test(key) ? key : `_${key}`
}

/** The folder of a tag, and its own name. */
const parted = (name: string): [folder: string, own: string] => {
  const at = name.lastIndexOf('/')
  return at < 0 ? ['', name] : [name.slice(0, at), name.slice(at + 1)]
}

/** Tags that are picked, by their folders; folders and tags in the order of their names. */
export function pickedFolders(pick: TagPick, tags: Iterable<Tag>): Map<string, Tag[]> {
  const folders = new Map<string, Tag[]>()
  for (const tag of [...tags].filter((t) => isPicked(pick, t)).sort((a, b) => byName(a.name, b.name))) {
    const [folder] = parted(tag.name)
    const there = folders.get(folder)
    if (there) there.push(tag)
    else folders.set(folder, [tag])
  }
  return new Map([...folders].sort(([a], [b]) => byName(a, b)))
}

/** Names as keys that are each their own: a second one of a name gets a number. */
export function ownKeys(names: readonly string[], taken = new Set<string>()): string[] {
  return names.map((name) => {
    const wanted = keyOf(name)
    let key = wanted
    for (let n = 2; taken.has(key); n++) key = `${wanted}_${n}`
    taken.add(key)
    return key
  })
}

function members(tags: readonly Tag[]): PlanMember[] {
  const keys = ownKeys(tags.map((tag) => parted(tag.name)[1]))
  return tags.map((tag, i) => {
    const [, own] = parted(tag.name)
    const key = keys[i]!
    const { dataType, unit, description, range, handle } = tag
    const width = tag.deadband ? deadbandWidth(tag.deadband, range) : 0
    return {
      ...{ key, dataType, unit, description, range, label: own, required: false, allowed: null, tag: tag.name },
      fill: { kind: 'tag', handle, width, factor: 1, offset: 0 },
    }
  })
}

/** A folder as if it were equipment: its levels are its path, its tags its members. */
function placed(folder: string, tags: readonly Tag[]): Placed {
  const path = folder === '' ? [NO_FOLDER] : folder.split('/')
  const name = path.at(-1)!
  // Nothing but the oldest of its tags tells one folder from another for good.
  const { id } = tags.reduce((a, b) => (a.handle < b.handle ? a : b))
  const plan: PlanEquipment = { id, name, level: 'work unit', path, className: '', classVersion: 0, facts: {}, members: members(tags) }
  const bare = { alias: '', facts: {}, externalIds: {} }
  const lineage = path.map((level, i) => ({ ...bare, name: level, level: i === path.length - 1 ? ('work unit' as const) : ('' as const) }))
  const one: Equipment = { ...bare, id, name, parentId: null, level: 'work unit', classId: null, bindings: {}, counts: {}, version: 1 }
  return { one, plan, of: { lineage, className: null, members: plan.members.map((m) => m.key) } }
}

/** Tags without equipment: each folder of them is one. */
export function placedTags(pick: TagPick, world: World, stop: Say, warn: Say): Placed[] {
  const folders = pickedFolders(pick, world.tags.values())
  const all = [...folders.values()].flat()
  if (all.length === 0) stop('what', 'No tag is called so', 'Choose another folder, or other words')
  if (all.length > TAGS_MOST) {
    stop('what', `${all.length} tags are called so, ${TAGS_MOST} can go out in one publication`, 'Narrow them')
    return []
  }
  const madeUp = all.filter((t) => t.simulated || world.madeUpSources.has(t.sourceId)).map((t) => t.name)
  if (madeUp.length > 0)
    warn('what', `Simulated, not measured: ${some(madeUp)}`, 'Put the tags back on their device before receivers rely on them', {
      mend: { label: 'Open tags', href: '/tags' },
    })
  return [...folders].map(([folder, tags]) => placed(folder, tags))
}
