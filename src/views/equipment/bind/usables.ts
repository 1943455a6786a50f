import type { Equipment, Member } from '~/contract/equipment'
import type { Tag } from '~/contract/tag'
import { plainName } from '~/core/equipment/naming'
import type { Leaf } from '~/core/equipment/resolve'
import type { Usable } from './ExpressionEditor'

/** A name for use in an expression: `Dryer 1/dry bulb` is `dryBulb`, taken ones get a number. */
export function variableFor(name: string, taken: ReadonlySet<string>): string {
  const words = name
    .normalize('NFKD')
    .replace(/[^A-Za-z0-9]+/g, ' ')
    .trim()
    .split(' ')
    .filter(Boolean)
  const joined = words.map((w, i) => (i === 0 ? w.charAt(0).toLowerCase() + w.slice(1) : w.charAt(0).toUpperCase() + w.slice(1))).join('')
  const base = /^[A-Za-z_]/.test(joined) ? joined : `v${joined}`
  let out = base
  for (let n = 2; taken.has(out); n++) out = base + n
  return out
}

/** Other members and facts of the same equipment. */
export function ownUsables(one: Equipment, leaves: readonly Leaf[], except: string): Usable[] {
  const taken = new Set<string>()
  const out: Usable[] = []
  for (const l of leaves) {
    if (l.path === except || l.owner.id !== one.id) continue
    const name = variableFor(l.keys.length > 1 ? l.keys.join(' ') : l.member.key, taken)
    taken.add(name)
    out.push({
      name,
      detail: `${l.label}${l.member.unit ? `, ${l.member.unit}` : ''}`,
      dataType: l.member.dataType,
      input: { kind: 'member', equipmentId: null, path: l.path },
    })
  }
  for (const [fact, value] of Object.entries(one.facts)) {
    const name = variableFor(fact, taken)
    taken.add(name)
    const dataType = typeof value === 'number' ? 'number' : typeof value === 'boolean' ? 'boolean' : 'text'
    out.push({ name, detail: `fact: ${String(value)}`, dataType, input: { kind: 'fact', fact } })
  }
  return out
}

/** Members of a class, for what it computes itself. */
export function classUsables(members: readonly Member[], except: string): Usable[] {
  return members
    .filter((m) => m.id !== except && !m.classId && !m.many)
    .map((m) => ({
      name: m.key,
      detail: `${m.label}${m.unit ? `, ${m.unit}` : ''}`,
      dataType: m.dataType,
      input: { kind: 'member', equipmentId: null, path: m.id },
    }))
}

/** Tags whose names hold what is typed, at most 25. */
export function tagUsables(tags: readonly Tag[], typed: string, taken: ReadonlySet<string>): Usable[] {
  const wanted = plainName(typed)
  if (wanted.length < 2) return []
  const out: Usable[] = []
  for (const t of tags) {
    const last = t.name.split('/').slice(-2).join(' ')
    if (!plainName(t.name).replaceAll('/', ' ').includes(wanted) && !variableFor(last, new Set()).toLowerCase().includes(typed.toLowerCase()))
      continue
    out.push({ name: variableFor(last, taken), detail: `tag ${t.name}`, dataType: t.dataType, input: { kind: 'tag', tagId: t.id } })
    if (out.length >= 25) break
  }
  return out
}
