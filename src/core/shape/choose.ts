import type { Cell } from '../publication/cells/cell'
import { type Quality, qualityOf, reasonOf } from '../value/quality'
import type { Part } from './shape'

/** What a message holds of a member. */
export const Take = { nothing: 0, value: 1, none: 2, lastGood: 3 } as const

export interface Choice {
  members?: 'all' | 'changed'
  bad: 'marked' | 'left-out' | 'last-good'
  nulls?: 'null' | 'left-out'
}

/**
 * Makes the rule by which a message takes members: `take[i]` after it is called. A bad one goes without a value, not at
 * all, or with its last good value, and of those that have not changed nothing goes unless the message is a whole one, or one
 * goes with which they go `together`.
 */
export function chooser(
  how: Choice,
  count: number,
  together: readonly (readonly number[])[] = [],
): { take: Uint8Array; choose(part: Part, whole: boolean): void } {
  const take = new Uint8Array(count)
  const { bad } = how
  const onlyChanged = how.members === 'changed'
  const leaveNull = how.nulls === 'left-out'
  return {
    take,
    choose(part, whole) {
      const { cells } = part
      const changed = onlyChanged && !whole && together.length > 0 ? joined(part.changed, together) : part.changed
      for (let i = 0; i < count; i++) {
        if (onlyChanged && !whole && changed[i] === 0) {
          take[i] = Take.nothing
          continue
        }
        const cell = cells[i]!
        let t: number = cell.value === null ? Take.none : Take.value
        // The top two bits: 10 and 11 are bad (OPC 10000-4 7.39).
        if (cell.status >>> 31 === 1)
          t =
            bad === 'left-out'
              ? Take.nothing
              : bad === 'last-good' && !Number.isNaN(cell.goodTime) && cell.goodValue !== null
                ? Take.lastGood
                : Take.none
        take[i] = t === Take.none && leaveNull ? Take.nothing : t
      }
    },
  }
}

/** What changed, with all that goes together with it. */
function joined(changed: Uint8Array, together: readonly (readonly number[])[]): Uint8Array {
  let out = changed
  for (const group of together) {
    if (!group.some((i) => changed[i] === 1)) continue
    if (out === changed) out = changed.slice()
    for (const i of group) out[i] = 1
  }
  return out
}

/** Age of a last good value when the message's time is `at`, s, to a thousandth. */
const age = (cell: Cell, at: number) => Math.max(0, Math.round(at - cell.goodTime) / 1000)

/** The time of a cell, or another where it has none. Epoch ms. */
export const timeOr = (cell: Cell, other: number): number => (Number.isNaN(cell.time) ? other : cell.time)

/** The newest device time among members; `now` when none has one. Epoch ms. */
export function newest(cells: readonly Cell[], now: number): number {
  let at = Number.NEGATIVE_INFINITY
  for (let i = 0; i < cells.length; i++) if (cells[i]!.time > at) at = cells[i]!.time
  return at === Number.NEGATIVE_INFINITY ? now : at
}

/** `'bad: sensor fault'`, and with a last good value `'bad: sensor fault, value is 12.4 s old'`; empty for good. */
export function markOf(cell: Cell, take: number, at: number): string {
  if (cell.status >>> 30 === 0) return ''
  const quality = qualityOf(cell.status)
  const reason = reasonOf(cell.status)
  const text = reason === quality ? quality : `${quality}: ${reason}`
  return take === Take.lastGood ? `${text}, value is ${age(cell, at)} s old` : text
}

/** Reads such a mark; with an age the time of the value follows from the message's. */
export function readMark(text: string): { quality: Quality; reason: string; ageMs: number | null } | null {
  const m = /^(good|uncertain|bad)(?:: ([\s\S]*?))?(?:, value is (\d+(?:\.\d+)?) s old)?$/.exec(text)
  return m ? { quality: m[1] as Quality, reason: m[2] ?? '', ageMs: m[3] === undefined ? null : Math.round(Number(m[3]) * 1000) } : null
}
