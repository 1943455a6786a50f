import type { Finding, PlanEquipment, PlanMessage, Resolved } from '~/contract/publication'
import { some } from '../address/some'
import { HEADER_MAX, LEVEL_MAX } from '../address/topic-template'
import type { Scalar } from '../value/deadband'
import { isTorn } from '../value/well-formed'

/** So many messages are looked through. */
const LOOKED = 5000

/**
 * What a receiver would get otherwise than the device says it at this moment: texts that are no characters, and values that
 * are longer than a topic, a key or a header takes of them. `value` tells of a tag by its handle.
 */
export function valueFindings(equipment: readonly PlanEquipment[], messages: readonly PlanMessage[], value: (handle: number) => Scalar): Finding[] {
  const torn: string[] = []
  const cut = new Map<number, string[]>()
  const current = (e: number, m: number): Scalar => {
    const fill = equipment[e]?.members[m]?.fill
    return fill?.kind === 'tag' ? value(fill.handle) : fill?.kind === 'constant' ? fill.value : null
  }
  const name = (e: number, m: number) => `${equipment[e]!.name} ${equipment[e]!.members[m]!.label || equipment[e]!.members[m]!.key}`
  equipment.forEach((one, e) => {
    one.members.forEach((_, m) => {
      if (isTorn(current(e, m))) torn.push(name(e, m))
    })
  })
  const look = (e: number, resolved: Resolved) => {
    if (typeof resolved === 'string') return
    for (const p of resolved) {
      if (typeof p === 'string' || p.take !== 'value') continue
      const most = p.rule === null ? HEADER_MAX : LEVEL_MAX
      const v = current(e, p.member!)
      if (typeof v === 'string' && v.length > most) cut.set(most, [...new Set([...(cut.get(most) ?? []), name(e, p.member!)])])
    }
  }
  for (const m of messages.slice(0, LOOKED))
    for (const resolved of [m.place, m.key, m.responseTopic, ...m.headers.map(([, v]) => v)]) look(m.equipment[0] ?? 0, resolved)
  const say = (section: Finding['section'], message: string, hint: string): Finding => ({ severity: 'warns', section, message, hint, passing: true })
  return [
    ...(torn.length > 0
      ? [
          say(
            'shape',
            `${some(torn)} holds half a character (a lone surrogate) now, which no receiver could read: U+FFFD goes in its place, as uncertain`,
            'Look at how the device or its driver codes its texts',
          ),
        ]
      : []),
    ...[...cut].map(([most, who]) =>
      say(
        'address',
        `${some(who)} is longer than ${most} characters now: ${most === LEVEL_MAX ? 'a topic' : 'a key or a header'} takes the first ${most}`,
        'Send it in the payload, or cut it where you say with a filter',
      ),
    ),
  ]
}
