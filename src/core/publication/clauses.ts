import type { PublicationDraft } from '~/contract/publication'
import type { Step } from '~/contract/step'

type Shared = Pick<PublicationDraft, 'equipmentIds' | 'tags' | 'rows' | 'rule' | 'trigger' | 'pace' | 'steps'>

/** What all clauses of a publication have in common: whom it is about, when it speaks, and what is done on the way. */
export function sharedOf(root: Shared): Shared
/** A further clause with that. */
export function sharedOf(root: Shared, clause: PublicationDraft): PublicationDraft
export function sharedOf({ equipmentIds, tags, rows, rule, trigger, pace, steps }: Shared, clause?: PublicationDraft): Shared | PublicationDraft {
  const whom = { equipmentIds, ...(tags && { tags }), ...(rows && { rows }), ...(rule && { rule }) }
  const shared = { ...whom, trigger, ...(pace && { pace }), ...(steps && { steps }) }
  if (!clause) return shared
  const { equipmentIds: _e, tags: _g, rows: _w, rule: _r, trigger: _t, pace: _p, steps: _s, ...own } = clause
  return { ...own, ...shared }
}

/** A draft whose steps are all that its messages go through: those of the publication, then those of this clause alone. */
export function withOwnSteps<D extends { steps?: Step[] | undefined; own?: Step[] | undefined }>(draft: D): D {
  const { own, ...rest } = draft
  return own && own.length > 0 ? ({ ...rest, steps: [...(draft.steps ?? []), ...own] } as D) : draft
}
