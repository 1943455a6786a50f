import type { Equipment } from '~/contract/equipment'
import type { Fill } from '~/contract/fill'
import { type Quality, qualityOf } from '../value/quality'
import type { Leaf, MemberProblem, Resolver } from './resolve'

/** How one member of one equipment is doing: without a value, not fitting, or of the quality that it has now. */
export type CellState = 'missing' | 'open' | 'broken' | 'mismatch' | Quality

/** The state of a member; `status` gives a handle's present status, undefined when it is not known. */
export function cellState(leaf: Leaf, status: (handle: number) => number | undefined): CellState {
  const p: MemberProblem | null = leaf.problem
  if (!leaf.fill) return p?.kind === 'unbound' ? (leaf.member.required ? 'missing' : 'open') : 'broken'
  if (p) return 'mismatch'
  return worstOf(leaf.fill, status)
}

function worstOf(fill: Fill, status: (handle: number) => number | undefined): Quality {
  if (fill.kind === 'constant') return 'good'
  if (fill.kind === 'tag') {
    const s = status(fill.handle)
    return s === undefined ? 'good' : qualityOf(s)
  }
  let worst: Quality = 'good'
  const inputs = fill.kind === 'expression' ? fill.inputs.map((i) => i.fill) : 'input' in fill ? [fill.input] : []
  for (const input of inputs) {
    const q = worstOf(input, status)
    if (q === 'bad') return 'bad'
    if (q === 'uncertain') worst = q
  }
  return worst
}

/** Counts of members by their state. */
export type CoverageCounts = Record<CellState, number>
export const noCoverage = (): CoverageCounts => ({ missing: 0, open: 0, broken: 0, mismatch: 0, good: 0, uncertain: 0, bad: 0 })

/**
 * The quality of an equipment from its members: bad when a required member is bad, broken or missing; uncertain when any
 * other member is not good; good otherwise. Without members: null.
 */
export function equipmentQuality(counts: CoverageCounts, requiredBad: boolean): Quality | null {
  const all = Object.values(counts).reduce((a, b) => a + b, 0)
  if (all - counts.open === 0) return null
  if (requiredBad) return 'bad'
  return counts.uncertain + counts.bad + counts.broken + counts.mismatch > 0 ? 'uncertain' : 'good'
}

export interface Covered {
  counts: CoverageCounts
  quality: Quality | null
}

export function coverageOf(resolver: Resolver, one: Equipment, status: (handle: number) => number | undefined): Covered {
  const counts = noCoverage()
  let requiredBad = false
  for (const leaf of resolver.leavesOf(one)) {
    const state = cellState(leaf, status)
    counts[state]++
    if (leaf.member.required && (state === 'bad' || state === 'broken' || state === 'missing')) requiredBad = true
  }
  return { counts, quality: equipmentQuality(counts, requiredBad) }
}

const rank: Record<Quality, number> = { good: 0, uncertain: 1, bad: 2 }

/** For every equipment the worst quality of itself and all that stands under it; absent where nothing has members. */
export function rollUp(equipment: ReadonlyMap<string, Equipment>, own: ReadonlyMap<string, Quality | null>): Map<string, Quality> {
  const out = new Map<string, Quality>()
  for (const [id, q] of own) {
    if (!q) continue
    const seen = new Set<string>()
    for (let at = equipment.get(id); at && !seen.has(at.id); at = at.parentId ? equipment.get(at.parentId) : undefined) {
      seen.add(at.id)
      const now = out.get(at.id)
      // Above, it is that bad already.
      if (now && rank[now] >= rank[q]) break
      out.set(at.id, q)
    }
  }
  return out
}
