import type { ClassDraft, Member } from '~/contract/equipment'

/** One difference between two states of a class. `breaks`: who must do something about it. */
export interface ClassChange {
  member: string
  text: string
  breaks: 'receivers' | 'equipment' | null
}

const yes = (b: boolean) => (b ? 'yes' : 'no')
const rangeText = (m: Member) => (m.range ? `${m.range.low} to ${m.range.high}` : 'none')
const allowedText = (m: Member) => (m.allowed ? m.allowed.join(', ') : 'any')

/** What became different, and what that breaks: what receivers got so far under a name, and what equipment is filled with. */
export function classChanges(before: ClassDraft, after: ClassDraft, className: (id: string) => string = (id) => id): ClassChange[] {
  const out: ClassChange[] = []
  const say = (member: string, text: string, breaks: ClassChange['breaks'] = null) => out.push({ member, text, breaks })
  if (before.name !== after.name) say('', `called ${after.name}, before ${before.name}`)
  if (before.description !== after.description) say('', 'another description')
  if (before.extendsId !== after.extendsId)
    say(
      '',
      after.extendsId ? `extends ${className(after.extendsId)}` : `extends ${className(before.extendsId!)} no more`,
      before.extendsId ? 'receivers' : null,
    )
  const was = new Map(before.members.map((m) => [m.id, m]))
  const is = new Map(after.members.map((m) => [m.id, m]))
  for (const m of before.members) if (!is.has(m.id)) say(m.label, 'is gone', 'receivers')
  for (const m of after.members) {
    const old = was.get(m.id)
    if (!old) {
      say(
        m.label,
        m.required && !m.calculation ? 'is new and required: nothing fills it yet' : 'is new',
        m.required && !m.calculation ? 'equipment' : null,
      )
      continue
    }
    if (old.key !== m.key) say(m.label, `is ${m.key} in payloads, before ${old.key}`, 'receivers')
    if (old.label !== m.label) say(m.label, `called so, before ${old.label}`)
    if (old.description !== m.description) say(m.label, 'another description')
    if (old.classId !== m.classId)
      say(m.label, m.classId ? `a part ${className(m.classId)}` : `a value, before a part ${className(old.classId!)}`, 'receivers')
    if (old.many !== m.many) say(m.label, m.many ? 'a list, before single' : 'single, before a list', 'receivers')
    if (m.classId) continue
    // Whoever takes any number takes whole ones.
    if (old.dataType !== m.dataType)
      say(m.label, `a ${m.dataType}, before a ${old.dataType}`, old.dataType === 'number' && m.dataType === 'integer' ? null : 'receivers')
    if (old.unit !== m.unit) say(m.label, `in ${m.unit || 'no unit'}, before in ${old.unit || 'no unit'}`, 'receivers')
    if (rangeText(old) !== rangeText(m)) {
      const wider = old.range !== null && (m.range === null || m.range.low < old.range.low || m.range.high > old.range.high)
      say(m.label, `range ${rangeText(m)}, before ${rangeText(old)}`, wider ? 'receivers' : null)
    }
    if (allowedText(old) !== allowedText(m)) {
      const wider = old.allowed !== null && (m.allowed === null || m.allowed.some((v) => !old.allowed!.includes(v)))
      say(m.label, `allowed: ${allowedText(m)}, before ${allowedText(old)}`, wider ? 'receivers' : null)
    }
    if (old.required !== m.required) say(m.label, `required: ${yes(m.required)}, before ${yes(old.required)}`, m.required ? 'equipment' : 'receivers')
    if (JSON.stringify(old.calculation) !== JSON.stringify(m.calculation))
      say(m.label, m.calculation ? 'computed another way' : 'computed no more', !m.calculation && m.required ? 'equipment' : null)
  }
  return out
}
