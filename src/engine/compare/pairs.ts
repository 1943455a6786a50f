import type { ComparePair } from '~/contract/compare'
import type { Fill } from '~/contract/fill'
import type { Plan, PlanMember, Resolved } from '~/contract/publication'
import type { Tag } from '~/contract/tag'
import type { Line } from '~/core/compare/track'
import { originOf } from '~/core/proof/origins'
import { conversion } from '~/core/value/convert'

/** A tag and where it is to arrive. */
export interface Pair {
  key: string
  held: Tag
  came: ComparePair['came']
  /** The tag that is to be the same; null: it arrives in messages. */
  other: Tag | null
  stated: Line
  /** How far it must move to be told, in the unit of what arrives. */
  width: number
  logical: boolean
  named: boolean
}

const same: Line = { factor: 1, offset: 0 }

/** How what is read becomes what arrives; null: not along a line. */
function statedOf(fill: Fill): (Line & { width: number }) | null {
  if (fill.kind === 'tag') return { factor: fill.factor, offset: fill.offset, width: fill.width * Math.abs(fill.factor) }
  if (fill.kind !== 'as') return null
  const before = statedOf(fill.input)
  if (!before) return null
  const { factor, offset } = fill
  return { factor: before.factor * factor, offset: before.offset * factor + offset, width: before.width * Math.abs(factor) }
}

/** Both numbers, both yes and no, or both names; null: they cannot be held beside each other. */
function sortsOf(tag: Pick<Tag, 'dataType'>, dataType: PlanMember['dataType']): { logical: boolean; named: boolean } | null {
  const number = (t: string) => t === 'number' || t === 'integer'
  if (tag.dataType === 'boolean' && dataType === 'boolean') return { logical: true, named: false }
  if (tag.dataType === 'text' && dataType === 'text') return { logical: false, named: true }
  return number(tag.dataType) && number(dataType) ? { logical: false, named: false } : null
}

/** Where a member arrives, and what it is there. */
export interface Arriving {
  pair: Pair
  /** Message of the plan. */
  message: number
  /** Of the plan; what one message says of several is told apart by their names. */
  equipment: number
  member: string
}

/** The pairs of a plan: members that one tag fills, each where it arrives first; and how many others there are. */
export function pairsOf(plan: Plan, tags: ReadonlyMap<number, Tag>): { pairs: Arriving[]; others: number } {
  const pairs = new Map<string, Arriving>()
  const others = new Set<string>()
  plan.messages.forEach((message, n) => {
    for (const e of message.equipment) {
      const { members, id } = plan.equipment[e]!
      for (const i of message.members ?? members.keys()) {
        const m = members[i]!
        const key = `${plan.publicationId} ${id} ${m.key}`
        if (pairs.has(key) || others.has(key)) continue
        const pair = pairOf(plan, e, m, shownPlace(message.place), tags)
        if (pair) pairs.set(key, { pair: { key, ...pair }, message: n, equipment: e, member: m.key })
        else if (originOf(plan, e, m).how !== 'constant') others.add(key)
      }
    }
  })
  return { pairs: [...pairs.values()], others: others.size }
}

/** A place as it is shown: what waits for a time or a value is left open. */
const shownPlace = (place: Resolved) => (typeof place === 'string' ? place : place.map((piece) => (typeof piece === 'string' ? piece : '…')).join(''))

function pairOf(plan: Plan, equipment: number, m: PlanMember, place: string, tags: ReadonlyMap<number, Tag>): Omit<Pair, 'key'> | null {
  const origin = originOf(plan, equipment, m)
  const held = origin.handles.length === 1 ? tags.get(origin.handles[0]!) : undefined
  const computed = origin.how === 'expression' ? origin.text : ''
  const stated = statedOf(m.fill)
  const sorts = held && sortsOf(held, m.dataType)
  if (!held || !sorts || (!stated && !computed)) return null
  const { publicationId, name: publication, destinationId } = plan
  return {
    held,
    other: null,
    came: {
      kind: 'member',
      ...{ publicationId, publication, destinationId, place, computed },
      equipment: plan.equipment[equipment]!.name,
      member: m.label || m.key,
      unit: m.unit,
    },
    stated: stated ? { factor: stated.factor, offset: stated.offset } : same,
    width: stated?.width ?? 0,
    ...sorts,
  }
}

/** Two tags that are to be the same; null: they cannot be held beside each other. */
export function tagPair(held: Tag, other: Tag): Pair | null {
  const sorts = sortsOf(held, other.dataType)
  if (!sorts) return null
  const { id: tagId, name: tag, unit } = other
  return {
    key: `tags ${held.id} ${other.id}`,
    ...{ held, other, ...sorts },
    came: { kind: 'tag', tagId, tag, unit },
    stated: conversion(held.unit, unit) ?? same,
    width: 0,
  }
}
