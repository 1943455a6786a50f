import type { PlanEquipment } from '~/contract/publication'
import type { Trigger } from '~/contract/trigger'
import { some } from '../address/some'
import { handlesOf } from '../equipment/resolve'
import type { Say, World } from './placed'

/** Handles whose values are the events that a publication waits for; null: any, or none is. */
export function speakingOf(
  trigger: Extract<Trigger, { kind: 'event' }>,
  equipment: readonly PlanEquipment[],
  { tags }: Pick<World, 'tags'>,
  stop: Say,
  warn: Say,
): number[] | null {
  const { of, member } = trigger
  if (of === 'joined' || (of === 'value' && !member)) return null
  const named = new Set([...tags.values()].map((t) => t.handle))
  const handles = new Set<number>()
  const silent: string[] = []
  for (const { name, members } of equipment) {
    let any = false
    for (const m of members) {
      if (of === 'value' && m.key !== member) continue
      // What is read and is no tag is a place in a record.
      for (const h of handlesOf(m.fill)) {
        if (of === 'record' && named.has(h)) continue
        handles.add(h)
        any = true
      }
    }
    if (!any) silent.push(name)
  }
  const words = of === 'record' ? 'no member that a record fills' : `no member ${member} that is read`
  const hint = of === 'record' ? 'Bind a member to a record under Equipment, or take another event' : 'Choose another member, or any'
  if (equipment.length > 0 && handles.size === 0) stop('when', `There is ${words}, so nothing would ever be sent`, hint)
  else if (silent.length > 0) warn('when', `${some(silent)}: ${words}, so nothing is sent of it`, hint)
  return [...handles]
}
