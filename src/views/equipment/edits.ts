import type { Equipment, EquipmentEdited, EquipmentEditInput } from '~/contract/equipment'
import { call, queryClient, refresh } from '../app/api'
import { Edits } from '../shared/undo'

/** The version that each equipment got by the last edit from here. */
const mine = new Map<string, number>()
const KEY = ['listEquipment', null, null]

/** Edits of equipment: places, names, facts and bindings. */
export const equipmentEdits = new Edits<EquipmentEditInput, EquipmentEdited>({
  send: (edit, _each, signal) => call('editEquipment', { body: edit, ...(signal && { signal }) }),
  // So that 10,000 equipment need not be read again for one.
  merge(edited) {
    for (const e of edited.equipment) mine.set(e.id, e.version)
    queryClient.setQueryData<Equipment[]>(KEY, (list) => {
      if (!list) return list
      const changed = new Map(edited.equipment.map((e) => [e.id, e]))
      const removed = new Set(edited.removed)
      const kept = list.filter((e) => !removed.has(e.id)).map((e) => changed.get(e.id) ?? e)
      const old = new Set(list.map((e) => e.id))
      return [...kept, ...edited.equipment.filter((e) => !old.has(e.id))]
    })
    void refresh('listClasses', 'tagUse', 'listRecords', 'sourceUse')
  },
  current(edit) {
    const now = <T extends { id: string; version?: number | undefined }>(row: T): T => ({ ...row, version: mine.get(row.id) ?? row.version })
    return { add: edit.add ?? [], change: (edit.change ?? []).map(now), remove: (edit.remove ?? []).map(now) }
  },
  rows: (e) => (e.add?.length ?? 0) + (e.change?.length ?? 0) + (e.remove?.length ?? 0),
})
