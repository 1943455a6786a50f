import type { ClassInput, EquipmentClass, Member } from '~/contract/equipment'
import { shortId } from '~/contract/id'
import { typedNumber } from '~/core/value/typed-number'

/** A name in payloads from what a member is called: `Fuel flow` is `fuelFlow`. */
export const keyFrom = (label: string) =>
  label
    .trim()
    .replace(/[^A-Za-z0-9]+(.)?/g, (_, c: string | undefined) => (c ? c.toUpperCase() : ''))
    .replace(/^[A-Z]/, (c) => c.toLowerCase())

/** A member as it is typed: range and allowed values as text until they are saved. */
export type Typed = Omit<Member, 'range' | 'allowed'> & { low: string; high: string; allowedText: string }

export const typed = ({ range, allowed, ...m }: Member): Typed => ({
  ...m,
  low: range ? String(range.low) : '',
  high: range ? String(range.high) : '',
  allowedText: allowed ? allowed.join(', ') : '',
})

/** As it is stored; what is no number there is NaN, which the contract refuses with its field. */
export function untyped({ low, high, allowedText, ...m }: Typed): Member {
  const numeric = m.dataType === 'number' || m.dataType === 'integer'
  const words = allowedText
    // With semicolons between them, commas are decimal ones.
    .split(numeric && allowedText.includes(';') ? ';' : ',')
    .map((w) => w.trim())
    .filter(Boolean)
  return {
    ...m,
    key: m.key || keyFrom(m.label),
    range:
      m.classId || (low.trim() === '' && high.trim() === '') ? null : { low: typedNumber(low) ?? Number.NaN, high: typedNumber(high) ?? Number.NaN },
    allowed: m.classId || words.length === 0 ? null : words.map((w) => (numeric ? (typedNumber(w) ?? Number.NaN) : w)),
  }
}

export const fresh = (): Typed => ({
  id: shortId(),
  key: '',
  label: '',
  description: '',
  required: true,
  many: false,
  classId: null,
  dataType: 'number',
  unit: '',
  low: '',
  high: '',
  allowedText: '',
  calculation: null,
})

/** A class as it is written here. */
export interface Written {
  name: string
  description: string
  extendsId: string
  members: Typed[]
}
export const nothing: Written = { name: '', description: '', extendsId: '', members: [] }
export const written = (c: EquipmentClass): Written => ({
  name: c.name,
  description: c.description,
  extendsId: c.extendsId ?? '',
  members: c.members.map(typed),
})

/** What is sent when it is saved. */
export const inputOf = ({ name, description, extendsId, members }: Written): ClassInput => ({
  name,
  description,
  extendsId: extendsId || null,
  members: members.map(untyped),
})

const memberFields = ['label', 'key', 'classId', 'range', 'allowed', 'calculation', 'unit', 'id']

/** What is wrong with one member, of all that a refusal names. */
export function faultsOf(fields: Readonly<Record<string, string>>, index: number): string[] {
  return memberFields.flatMap((field) => {
    const at = `members.${index}.${field}`
    return Object.entries(fields).flatMap(([path, reason]) => (path === at || path.startsWith(`${at}.`) ? [reason] : []))
  })
}

/** The list with one of its members a place up or down; past an end it stays. */
export function moved<T>(list: readonly T[], from: number, by: 1 | -1): T[] {
  const to = from + by
  const next = [...list]
  if (to < 0 || to >= list.length) return next
  next.splice(to, 0, ...next.splice(from, 1))
  return next
}
