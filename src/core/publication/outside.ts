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
