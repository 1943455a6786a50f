import { useMemo } from 'react'
import type { PlanEquipment } from '~/contract/publication'
import { outsideName } from '~/core/address/topic-template'
import { lineage } from '~/core/equipment/hierarchy'
import { useModel } from '../equipment/useModel'

/** Gives the members that all of these equipment have, for what is proposed to be sent of each. */
export function useCommonMembers(ids: readonly string[]): () => ReadonlySet<string> {
  const { model } = useModel()
  return () => {
    const each = ids.flatMap((id) => {
      const one = model.equipment.get(id)
      return one ? [new Set(model.resolver.leavesOf(one).flatMap((l) => (l.fill ? [l.keys.join('.')] : [])))] : []
    })
    const [first, ...others] = each
    return new Set([...(first ?? [])].filter((key) => others.every((own) => own.has(key))))
  }
}

/** An equipment as it would be sent: what placeholders may name. Null while it is not known. */
export function useExample(id: string | null): PlanEquipment | null {
  const { model } = useModel()
  return useMemo(() => {
    const one = id === null ? undefined : model.equipment.get(id)
    if (!one) return null
    const line = lineage(model.equipment, one.id)
    return {
      id: one.id,
      name: outsideName(one),
      level: one.level,
      path: line.map((e) => outsideName(e)),
      className: (one.classId && model.classes.get(one.classId)?.name) || '',
      classVersion: 0,
      facts: one.facts,
      members: model.resolver.leavesOf(one).flatMap((l) => {
        if (!l.fill) return []
        const { dataType, unit, description, required, range, allowed } = l.member
        return [{ key: l.keys.join('.'), dataType, unit, fill: l.fill, label: l.label, description, required, range, allowed, tag: '' }]
      }),
    }
  }, [model, id])
}
