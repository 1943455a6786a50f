import { useEffect, useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { ClassInput, EquipmentClass } from '~/contract/equipment'
import { call, refresh } from '../../app/api'
import { isConflict, tellFailure } from '../../shared/problems'
import { useDraft } from '../../shared/useDraft'
import { useWork } from '../../shared/useWork'
import { fresh, inputOf, moved, nothing, type Typed, type Written, written } from './typed-class'

/** A class as it is written: kept over leaving, told to whoever shows its effect, and saved. */
export function useClassForm(cls: EquipmentClass | null, onDraft: (d: ClassInput | null) => void, onSaved: (c: EquipmentClass) => void) {
  const own = useDraft<Written>(`class ${cls?.id ?? 'new'}`, cls && { version: cls.version, draft: written(cls) }, nothing)
  const [fields, setFields] = useState<Record<string, string>>({})
  const { busy, run } = useWork((failure, thrown) => {
    if (failure.fields) setFields(failure.fields)
    else if (cls && isConflict(thrown)) void refresh('listClasses')
    else tellFailure(thrown)
    return true
  })
  const { dirty, draft } = own
  const { members } = draft
  const input = useMemo(() => inputOf(draft), [draft])
  useEffect(() => onDraft(dirty ? input : null), [input, dirty, onDraft])
  const change = (part: Partial<Written>) => own.setDraft({ ...draft, ...part })
  const save = () => {
    setFields({})
    return run(async () => {
      const saved = cls
        ? await call('changeClass', { params: { id: cls.id }, query: { version: own.begun ?? undefined }, body: input })
        : await call('addClass', { body: input })
      await refresh('listClasses', 'listEquipment', 'classVersions', 'listRecords')
      own.saved({ version: saved.version, draft: written(saved) })
      toast.success(`${saved.name} is saved${cls ? `, version ${saved.version}` : ''}`)
      onSaved(saved)
    })
  }
  return {
    own,
    draft,
    dirty,
    fields,
    busy,
    change,
    set: (id: string, part: Partial<Typed>) => change({ members: members.map((m) => (m.id === id ? { ...m, ...part } : m)) }),
    move: (index: number, by: 1 | -1) => change({ members: moved(members, index, by) }),
    remove: (id: string) => change({ members: members.filter((m) => m.id !== id) }),
    add: () => change({ members: [...members, fresh()] }),
    save,
  }
}
