import type { Equipment } from '~/contract/equipment'
import type { Tag } from '~/contract/tag'
import type { ClassLike } from '~/core/equipment/members'
import { matchNaming, NameIndex, type NamingHit, parseNaming } from '~/core/equipment/naming'
import { type Proposal, ProposalIndex, propose } from '~/core/equipment/propose'
import { Resolver } from '~/core/equipment/resolve'

export interface MatchingModel {
  equipment: readonly Equipment[]
  classes: readonly ClassLike[]
  tags: readonly Tag[]
}
export type MatchingTask =
  | { do: 'pattern'; pattern: string; ids: readonly string[]; openOnly: boolean; path: string | null }
  | { do: 'propose'; ids: readonly string[] }
export type MatchingAnswer = { done: number; total: number } | { hits: NamingHit[] } | { proposals: Proposal[] } | { problem: string }

// The model is sent once; tasks follow.
let model: { resolver: Resolver; tags: readonly Tag[]; names: NameIndex | null; index: ProposalIndex | null } | null = null

function run(task: MatchingTask): void {
  if (!model) return
  const { resolver, tags } = model
  const equipment = task.ids.flatMap((id) => resolver.model.equipment.get(id) ?? [])
  if (task.do === 'pattern') {
    model.names ??= new NameIndex(tags)
    const only = (l: { binding: unknown; path: string }) => (!task.openOnly || l.binding === null) && (task.path === null || l.path === task.path)
    const steps = matchNaming(parseNaming(task.pattern), equipment, resolver, model.names, only)
    for (let s = steps.next(); ; s = steps.next()) {
      if (s.done) return postMessage({ hits: s.value } satisfies MatchingAnswer)
      postMessage({ done: s.value, total: equipment.length } satisfies MatchingAnswer)
    }
  }
  model.index ??= new ProposalIndex(tags)
  const steps = propose(equipment, resolver, model.index)
  for (let s = steps.next(); ; s = steps.next()) {
    if (s.done) return postMessage({ proposals: s.value } satisfies MatchingAnswer)
    postMessage({ done: s.value, total: equipment.length } satisfies MatchingAnswer)
  }
}

addEventListener('message', (e: MessageEvent<{ model: MatchingModel } | { task: MatchingTask }>) => {
  try {
    if ('model' in e.data) {
      const { equipment, classes, tags } = e.data.model
      const resolver = new Resolver({
        equipment: new Map(equipment.map((x) => [x.id, x])),
        classes: new Map(classes.map((c) => [c.id, c])),
        tags: new Map(tags.map((t) => [t.id, t])),
        records: new Map(),
      })
      model = { resolver, tags, names: null, index: null }
    } else run(e.data.task)
  } catch (error) {
    postMessage({ problem: error instanceof Error ? error.message : String(error) } satisfies MatchingAnswer)
  }
})
