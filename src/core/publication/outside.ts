import type { Fill } from '~/contract/fill'
import type { PlanEquipment, PlanMessage, Publication } from '~/contract/publication'
import type { Difference, Outside } from '~/contract/tag'
import { placeText } from '../address/topic-template'
import { handlesOf } from '../equipment/resolve'
import { compile, type PlanBody } from './compile'
import type { World } from './placed'

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
    const was = compile(p, world).body
    const will = compile(p, after).body
    was.messages.forEach((message, n) => {
      for (const e of message.equipment) {
        const one = was.equipment[e]!
        const then = will.equipment[e]
        one.members.forEach((m, k) => {
          if (message.members && !message.members.includes(k)) return
          const tag = [...handlesOf(m.fill)].map((h) => byHandle.get(h)).find((t) => t !== undefined)
          if (tag === undefined) return
          places.push({
            tag,
            publication: p.name,
            live: p.state === 'live',
            topic: textOf(message, one),
            topicAfter: then && will.messages[n] ? textOf(will.messages[n], then) : '',
            key: m.key,
            keyAfter: then?.members[k]?.key ?? '',
          })
        })
      }
    })
  }
  const differs = (p: Outside['places'][number]) => p.topic !== p.topicAfter || p.key !== p.keyAfter
  places.sort((a, b) => Number(differs(b)) - Number(differs(a)))
  return { carried: new Set(places.map((p) => p.tag)).size, changed: places.filter(differs).length, places: places.slice(0, TOLD) }
}

const textOf = (message: PlanMessage, one: PlanEquipment) =>
  placeText(
    message.place,
    one.members.map((m) => m.key),
  )

/** Topics of each equipment, as one text. */
function topicsOf(body: Pick<PlanBody, 'equipment' | 'messages'>): Map<string, string> {
  const out = new Map<string, string>()
  const single = new Map<string, number>()
  for (const m of body.messages)
    for (const e of m.equipment) {
      const one = body.equipment[e]!
      const n = (single.get(one.id) ?? 0) + 1
      single.set(one.id, n)
      // Of many topics, one a member, a few tell what changes.
      if (n <= 3) out.set(one.id, `${out.has(one.id) ? `${out.get(one.id)}, ` : ''}${textOf(m, one)}`)
    }
  return out
}

/** What becomes of a tag's value on its way into the member's unit. */
function conversionText(fill: Fill): string {
  if (!('factor' in fill) || (fill.factor === 1 && fill.offset === 0)) return 'as read'
  const times = fill.factor === 1 ? '' : `times ${fill.factor}`
  const plus = fill.offset === 0 ? '' : `plus ${fill.offset}`
  return [times, plus].filter((part) => part !== '').join(', ')
}

/**
 * What receivers would see differently between two states of the model, were publications to go live anew: topics, names in
 * payloads, what is sent no more and what is new. What is live stays as it was frozen until then.
 */
export function outsideDifferences(publications: readonly Publication[], before: World, after: World): Difference[] {
  return publications.flatMap((p) => bodyDifferences(p, compile(p, before).body, compile(p, after).body))
}

/** The same between two things that were frozen, or would be. */
export function bodyDifferences(
  p: Pick<Publication, 'name' | 'state'>,
  bodyBefore: Pick<PlanBody, 'equipment' | 'messages'>,
  bodyAfter: Pick<PlanBody, 'equipment' | 'messages'>,
): Difference[] {
  const out: Difference[] = []
  const was = new Map(bodyBefore.equipment.map((e) => [e.id, e]))
  const will = new Map(bodyAfter.equipment.map((e) => [e.id, e]))
  const [oldTopics, newTopics] = [topicsOf(bodyBefore), topicsOf(bodyAfter)]
  const oldTopic = (id: string) => oldTopics.get(id) ?? ''
  const newTopic = (id: string) => newTopics.get(id) ?? ''
  const say = (equipment: string, what: Difference['what'], a: string, b: string) =>
    out.push({ publication: p.name, live: p.state === 'live', equipment, what, before: a, after: b })
  for (const [id, old] of was) {
    const now = will.get(id)
    if (!now) {
      say(old.name, 'gone', oldTopic(id), '')
      continue
    }
    if (oldTopic(id) !== newTopic(id)) say(now.name, 'topic', oldTopic(id), newTopic(id))
    const keys = new Map(now.members.map((m) => [JSON.stringify(m.fill), m.key]))
    const kept = new Set<string>()
    for (const m of old.members) {
      const same = now.members.find((x) => x.key === m.key)
      if (same) {
        kept.add(m.key)
        if (m.dataType !== same.dataType) say(now.name, 'type', `${m.key}: ${m.dataType}`, same.dataType)
        if (m.unit !== same.unit) say(now.name, 'unit', `${m.key}: ${m.unit || 'none'}`, same.unit || 'none')
        const [was, will] = [conversionText(m.fill), conversionText(same.fill)]
        // With another unit other figures are what one expects.
        if (m.unit === same.unit && was !== will) say(now.name, 'value', `${m.key}: ${was}`, will)
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
  for (const [id, now] of will) if (!was.has(id)) say(now.name, 'new', '', newTopic(id))
  return out
}
