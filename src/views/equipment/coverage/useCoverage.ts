import { useMemo } from 'react'
import { type CellState, type CoverageCounts, cellState, noCoverage } from '~/core/equipment/coverage'
import { byName, pathText } from '~/core/equipment/hierarchy'
import { type PlantModel, useStatuses } from '../useModel'
import type { Column } from './CoverageGrid'

interface Sought {
  classId: string | null
  /** In lower case; of the path. */
  words: string
  state: CellState | null
}

/** Members of all equipment of one class: how they are filled, which rows fit what is sought, and the columns that they have. */
export function useCoverage(model: PlantModel, { classId, words, state }: Sought) {
  const status = useStatuses()
  const used = useMemo(() => {
    const count = new Map<string, number>()
    for (const e of model.list) if (e.classId) count.set(e.classId, (count.get(e.classId) ?? 0) + 1)
    return [...count]
      .flatMap(([id, n]) => (model.classes.has(id) ? [{ id, name: model.classes.get(id)!.name, n }] : []))
      .sort((a, b) => byName(a.name, b.name))
  }, [model])
  const cls = used.find((c) => c.id === classId) ?? used[0]
  const all = useMemo(() => model.list.filter((e) => e.classId === cls?.id).sort((a, b) => byName(a.name, b.name)), [model, cls?.id])
  const { counts, states } = useMemo(() => {
    const total = noCoverage()
    const by = new Map<string, Set<CellState>>()
    for (const e of all) {
      const own = new Set<CellState>()
      for (const leaf of model.resolver.leavesOf(e)) {
        const s = cellState(leaf, status)
        total[s]++
        own.add(s)
      }
      by.set(e.id, own)
    }
    return { counts: total as CoverageCounts, states: by }
  }, [all, model, status])
  const rows = useMemo(
    () => all.filter((e) => (!words || pathText(model.equipment, e.id).toLowerCase().includes(words)) && (!state || states.get(e.id)!.has(state))),
    [all, words, state, states, model],
  )
  // Equipment of one class may have lists of different lengths: every place that one of them has is a column.
  const columns = useMemo<Column[]>(() => {
    const out = new Map<string, Column>()
    for (const e of all)
      for (const l of model.resolver.leavesOf(e)) {
        const id = l.keys.join('.')
        if (!out.has(id)) out.set(id, { id, label: l.label, member: l.member })
      }
    return [...out.values()]
  }, [all, model])
  return { used, cls, counts, rows, columns, status }
}
