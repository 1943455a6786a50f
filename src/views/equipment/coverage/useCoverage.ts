import { useCallback, useMemo } from 'react'
import type { Equipment, EquipmentClass } from '~/contract/equipment'
import { type CellState, type CoverageCounts, cellState, noCoverage } from '~/core/equipment/coverage'
import { byName, pathText } from '~/core/equipment/hierarchy'
import { useCall } from '../../app/api'
import { type PlantModel, useModel, useStatuses } from '../useModel'
import type { Column } from './CoverageGrid'

interface Sought {
  classId: string | null
  /** In lower case; of the path. */
  words: string
  state: CellState | null
}

/** So many rows are shown before all tags are there. */
const FIRST = 40

/** Classes that have equipment, by their names, and all equipment of the wanted one, or of the first. */
function ofClass(list: readonly Equipment[], classes: ReadonlyMap<string, EquipmentClass>, classId: string | null) {
  const count = new Map<string, number>()
  for (const e of list) if (e.classId) count.set(e.classId, (count.get(e.classId) ?? 0) + 1)
  const used = [...count]
    .flatMap(([id, n]) => (classes.has(id) ? [{ id, name: classes.get(id)!.name, n }] : []))
    .sort((a, b) => byName(a.name, b.name))
  const cls = used.find((c) => c.id === classId) ?? used[0]
  return { used, cls, all: list.filter((e) => e.classId === cls?.id).sort((a, b) => byName(a.name, b.name)) }
}

/** The plant as this page shows it: the first rows of a class before the rest, where all are asked for. */
export function useCoverageModel({ classId, words, state }: Sought) {
  const classes = useCall('listClasses')
  const plain = words === '' && state === null
  const first = useCallback(
    (list: readonly Equipment[]) => {
      const byId = new Map((classes.data ?? []).map((c) => [c.id, c]))
      return plain
        ? ofClass(list, byId, classId)
            .all.slice(0, FIRST)
            .map((e) => e.id)
        : []
    },
    [classes.data, classId, plain],
  )
  return useModel(first)
}

/** Members of all equipment of one class: how they are filled, which rows fit what is sought, and the columns that they have. */
export function useCoverage(model: PlantModel, { classId, words, state }: Sought) {
  const status = useStatuses()
  const { used, cls, all } = useMemo(() => {
    const found = ofClass(model.list, model.classes, classId)
    return model.whole ? found : { ...found, all: found.all.slice(0, FIRST) }
  }, [model, classId])
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
