import type { Publication } from '~/contract/publication'
import type { Outside } from '~/contract/tag'
import { handlesOf } from '../equipment/resolve'
import { compile, type World } from './compile'

const TOLD = 500

/** What receivers would see differently if tags had these names: every publication is resolved with the old and with the new ones. */
export function renamedOutside(publications: readonly Publication[], world: World, names: ReadonlyMap<string, string>): Outside {
  const after: World = {
    ...world,
    tags: new Map([...world.tags].map(([id, t]) => [id, names.has(id) ? { ...t, name: names.get(id)! } : t])),
  }
  const byHandle = new Map(
    [...names.keys()].flatMap((id) => (world.tags.has(id) ? [[world.tags.get(id)!.handle, world.tags.get(id)!.name] as const] : [])),
  )
  const places: Outside['places'] = []
  for (const p of publications) {
    const was = compile(p, world).body.equipment
    const will = compile(p, after).body.equipment
    was.forEach((one, i) => {
      one.members.forEach((m, k) => {
        const tag = [...handlesOf(m.fill)].map((h) => byHandle.get(h)).find((t) => t !== undefined)
        if (tag === undefined) return
        const then = will[i]
        places.push({
          tag,
          publication: p.name,
          live: p.state === 'live',
          topic: one.topic,
          topicAfter: then?.topic ?? '',
          key: m.key,
          keyAfter: then?.members[k]?.key ?? '',
        })
      })
    })
  }
  const differs = (p: Outside['places'][number]) => p.topic !== p.topicAfter || p.key !== p.keyAfter
  places.sort((a, b) => Number(differs(b)) - Number(differs(a)))
  return { carried: new Set(places.map((p) => p.tag)).size, changed: places.filter(differs).length, places: places.slice(0, TOLD) }
}

/** Something that receivers would see differently. */
export interface Difference {
  publication: string
  live: boolean
  equipment: string
  what: 'topic' | 'name' | 'type' | 'unit' | 'gone' | 'new'
  before: string
  after: string
}

/**
 * What receivers would see differently between two states of the model, were publications to go live anew: topics, names in
 * payloads, what is sent no more and what is new. What is live stays as it was frozen until then.
 */
export function outsideDifferences(publications: readonly Publication[], before: World, after: World): Difference[] {
  const out: Difference[] = []
  for (const p of publications) {
    const was = new Map(compile(p, before).body.equipment.map((e) => [e.id, e]))
    const will = new Map(compile(p, after).body.equipment.map((e) => [e.id, e]))
    const say = (equipment: string, what: Difference['what'], a: string, b: string) =>
      out.push({ publication: p.name, live: p.state === 'live', equipment, what, before: a, after: b })
    for (const [id, old] of was) {
      const now = will.get(id)
      if (!now) {
        say(old.name, 'gone', old.topic, '')
        continue
      }
      if (old.topic !== now.topic) say(now.name, 'topic', old.topic, now.topic)
      const keys = new Map(now.members.map((m) => [JSON.stringify(m.fill), m.key]))
      const kept = new Set<string>()
      for (const m of old.members) {
        const same = now.members.find((x) => x.key === m.key)
        if (same) {
          kept.add(m.key)
          if (m.dataType !== same.dataType) say(now.name, 'type', `${m.key}: ${m.dataType}`, same.dataType)
          if (m.unit !== same.unit) say(now.name, 'unit', `${m.key}: ${m.unit || 'none'}`, same.unit || 'none')
          continue
        }
        // The same value under another name is the same member, renamed.
        const renamed = keys.get(JSON.stringify(m.fill))
        if (renamed !== undefined && !old.members.some((x) => x.key === renamed)) {
          say(now.name, 'name', m.key, renamed)
          kept.add(renamed)
        } else say(now.name, 'gone', m.key, '')
      }
      for (const m of now.members) if (!kept.has(m.key)) say(now.name, 'new', '', m.key)
    }
    for (const [id, now] of will) if (!was.has(id)) say(now.name, 'new', '', now.topic)
  }
  return out
}
