import type { ClassInput, EquipmentDraft, EquipmentInput, MemberInput } from '~/contract/equipment'
import { newId, shortId } from '~/contract/id'
import type { Tag } from '~/contract/tag'
import { byName } from './hierarchy'
import { plainName } from './naming'

/** A class and equipment as a branch of tags suggests them. */
export interface FolderProposal {
  cls: ClassInput
  /** Folders of the same build, each an equipment with the bindings it would get; those least like the first come last. */
  equipment: { folder: string; name: string; bindings: EquipmentDraft['bindings']; missing: string[]; extra: string[] }[]
}

const keyOf = (label: string, taken: ReadonlySet<string>) => {
  const words = label.split(/[^\p{L}\p{N}]+/u).filter(Boolean)
  const base =
    words
      .map((w, i) => (i === 0 ? w[0]!.toLowerCase() + w.slice(1) : w[0]!.toUpperCase() + w.slice(1)))
      .join('')
      .normalize('NFKD')
      .replace(/[^A-Za-z0-9]/g, '')
      .replace(/^\d+/, '')
      .slice(0, 36) || 'member'
  let key = base
  for (let n = 2; taken.has(key); n++) key = base + n
  return key
}

/** Capital first: `dry bulb` is called `Dry bulb`. */
const labelOf = (name: string) => name.charAt(0).toUpperCase() + name.slice(1)

/**
 * What a folder of tags would be as equipment: a class with a member for each tag, and folders beside it that have at least
 * half of the same tags.
 */
export function fromFolder(folder: string, tags: readonly Tag[]): FolderProposal | null {
  const above = folder.includes('/') ? folder.slice(0, folder.lastIndexOf('/') + 1) : ''
  const branches = new Map<string, Map<string, Tag>>()
  for (const t of tags) {
    if (!t.name.startsWith(above)) continue
    const rest = t.name.slice(above.length)
    const cut = rest.indexOf('/')
    if (cut < 0) continue
    const name = rest.slice(0, cut)
    const branch = branches.get(name)
    if (branch) branch.set(rest.slice(cut + 1), t)
    else branches.set(name, new Map([[rest.slice(cut + 1), t]]))
  }
  const first = folder.slice(above.length)
  const model = branches.get(first)
  if (!model) return null
  const ids = new Map<string, string>()
  const keys = new Set<string>()
  const members: MemberInput[] = [...model].map(([path, t]) => {
    const label = labelOf(path.replaceAll('/', ' '))
    const key = keyOf(label, keys)
    keys.add(key)
    const id = shortId()
    ids.set(plainName(path), id)
    return { id, key, label, description: t.description, dataType: t.dataType, unit: t.unit, range: t.range }
  })
  const equipment: FolderProposal['equipment'] = []
  for (const [name, branch] of branches) {
    const bindings: EquipmentDraft['bindings'] = {}
    const extra: string[] = []
    for (const [path, t] of branch) {
      const id = ids.get(plainName(path))
      if (id) bindings[id] = { kind: 'tag', tagId: t.id }
      else extra.push(path)
    }
    if (name !== first && Object.keys(bindings).length * 2 < ids.size) continue
    const missing = members.filter((m) => !bindings[m.id!]).map((m) => m.label)
    equipment.push({ folder: above + name, name, bindings, missing, extra })
  }
  equipment.sort((a, b) => Number(b.name === first) - Number(a.name === first) || a.missing.length - b.missing.length || byName(a.name, b.name))
  const cls = first.replace(/[\s_-]*\d+$/, '').trim() || first
  return { cls: { name: labelOf(cls), members }, equipment }
}

/** The chosen ones as an edit's rows under one parent. */
export function placed(
  chosen: FolderProposal['equipment'],
  classId: string,
  parentId: string,
  level: EquipmentDraft['level'],
): (EquipmentInput & { id: string })[] {
  return chosen.map((e) => ({ id: newId(), name: e.name, parentId, level, classId, bindings: e.bindings }))
}
